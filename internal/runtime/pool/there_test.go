package pool

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host/local"
	"alibi/internal/runtime/remote"
	"alibi/internal/runtime/wall"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
)

// said gives what our program says when it is told an order on another host.
func said(t *testing.T, told string) (a remote.Answer) {
	t.Helper()
	var out bytes.Buffer
	assert.Equal(t, 1, errand(strings.NewReader(told), &out, io.Discard))
	require.NoError(t, json.Unmarshal(out.Bytes(), &a), out.String())
	return a
}

func TestOurProgramSaysWhyItDoesNotRunACopy(t *testing.T) {
	assert.Contains(t, said(t, "no order").Failed, "reading what is to run")
	had := wall.Missing
	defer func() { wall.Missing = had }()
	wall.Missing = func() string { return "there is none" }
	s := site.Site{ID: "abc", Name: "far", Host: "drydock", Root: t.TempDir() + "/now/site", Stack: "wordpress",
		Addresses: []site.Address{{Scheme: "http", Host: "far.localhost", Port: "7700"}}}
	o := orderOf(s, nil)
	o.Sealed = true
	text, err := json.Marshal(o)
	require.NoError(t, err)
	a := said(t, string(text))
	assert.Equal(t, "there is none", a.Unsealed)
	assert.Contains(t, a.Failed, "its code does not run without a wall")

	p := &Pool{Sealed: true}
	err = p.because(s, a)
	assert.ErrorIs(t, err, ErrUnsealed)
	assert.ErrorContains(t, err, "host drydock: its code does not run without a wall")
	assert.ErrorIs(t, p.because(s, remote.Answer{Failed: "much", Full: true}), web.ErrFull)
	assert.NotErrorIs(t, p.because(s, remote.Answer{Failed: "x"}), ErrUnsealed)
}

func TestOurProgramIsPutOnAHostOnceAndGoes(t *testing.T) {
	ctx := context.Background()
	cache := t.TempDir()
	t.Setenv("XDG_CACHE_HOME", cache)
	h := local.New("drydock")
	path, why, err := remote.Program(ctx, h)
	require.NoError(t, err)
	require.Empty(t, why)
	assert.Equal(t, filepath.Join(cache, "alibi"), filepath.Dir(path))
	was, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o700), was.Mode().Perm())
	old := filepath.Join(cache, "alibi", "program-of-last-year")
	require.NoError(t, os.WriteFile(old, nil, 0o700))
	require.NoError(t, os.Chtimes(old, time.Time{}, time.Now().Add(-9*24*time.Hour)))
	again, _, err := remote.Program(ctx, h)
	require.NoError(t, err)
	assert.Equal(t, path, again)
	is, err := os.Stat(path)
	require.NoError(t, err)
	assert.True(t, os.SameFile(was, is), "it is not put a second time")
	assert.FileExists(t, old)

	require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\nexit 1\n"), 0o700)) // one that was broken off
	_, why, err = remote.Program(ctx, h)
	require.NoError(t, err)
	assert.Empty(t, why, "it is put anew")
	assert.NoFileExists(t, old, "nobody used it for a week")
	require.NoError(t, remote.Forget(ctx, h))
	assert.NoDirExists(t, filepath.Join(cache, "alibi"))

	t.Setenv("XDG_CACHE_HOME", "/dev/null")
	_, why, err = remote.Program(ctx, h)
	require.NoError(t, err)
	assert.Contains(t, why, "our program could not be put there")
}
