package local

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host/hosttest"
)

func TestConformance(t *testing.T) {
	dir := t.TempDir()
	hosttest.Run(t, New("slipway"), dir, dir)
}

func TestCommand(t *testing.T) {
	out, err := New("slipway").Command(context.Background(), "printf", "%s", "a'b c")
	require.NoError(t, err)
	assert.Equal(t, "a'b c", string(out))
	_, err = New("slipway").Command(context.Background(), "no-such-program")
	assert.ErrorContains(t, err, "running no-such-program on slipway")
}

func TestOpenNeedsAnAbsolutePath(t *testing.T) {
	_, err := New("slipway").Open(context.Background(), "relative")
	assert.ErrorContains(t, err, "not an absolute path")
}
