package phpval

import (
	"encoding/base64"
	"testing"

	"github.com/stretchr/testify/require"
)

func base64Line(b []byte) string { return base64.StdEncoding.EncodeToString(b) + "\n" }

func unbase64(t *testing.T, s string) []byte {
	t.Helper()
	b, err := base64.StdEncoding.DecodeString(s)
	require.NoError(t, err)
	return b
}
