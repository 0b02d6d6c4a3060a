package php

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSeriesAndOrder(t *testing.T) {
	assert.Equal(t, "8.2", Series("8.2.36"))
	assert.Equal(t, "8.2", Series("8.2"))
	assert.Equal(t, "8", Series("8"))
	assert.Positive(t, Compare("8.10.0", "8.9.30"))
	assert.Negative(t, Compare("7.4.33", "8.0"))
	assert.Zero(t, Compare("8.1", "8.1.0"))
}

func TestChoose(t *testing.T) {
	have := []PHP{{Version: "8.4.1"}, {Version: "8.2.36"}, {Version: "7.4.33"}}
	for want, c := range map[string]struct {
		got   string
		exact bool
	}{
		"8.2":    {"8.2.36", true},
		"8.2.7":  {"8.2.36", true},
		"8.1":    {"8.2.36", false}, // the next later one
		"7.0":    {"7.4.33", false},
		"9.0":    {"8.4.1", false},
		"":       {"8.4.1", true},
		"7.4.30": {"7.4.33", true},
	} {
		p, exact := Choose(have, want)
		assert.Equal(t, c.got, p.Version, want)
		assert.Equal(t, c.exact, exact, want)
	}
	_, ok := Choose(nil, "8.2")
	assert.False(t, ok)
}

// program writes something that says of itself that it is a PHP.
func program(t *testing.T, file, says string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte("#!/bin/sh\necho '"+says+"'\n"), 0o755))
}

func TestFindLooksIntoFolders(t *testing.T) {
	dir := t.TempDir()
	program(t, filepath.Join(dir, "5.9", "php"), "PHP 5.9.1 (cli) (built: yesterday)")
	program(t, filepath.Join(dir, "5.9", "php-fpm"), "PHP 5.9.1 (fpm-fcgi) (built: yesterday)")
	program(t, filepath.Join(dir, "odd", "php"), "I am something else")
	program(t, filepath.Join(dir, "dev", "php"), "PHP 5.8.0-dev (cli)")
	found := map[string]PHP{}
	for _, p := range Find(context.Background(), dir) {
		found[p.Series()] = p
	}
	require.Contains(t, found, "5.9")
	assert.NotEmpty(t, found["5.9"].CLI)
	assert.NotEmpty(t, found["5.9"].FPM)
	assert.Equal(t, "5.8.0", found["5.8"].Version)
	assert.Contains(t, found, "8.2", "the system's own is found too")
	assert.NotContains(t, fmt.Sprint(found), "odd")
}

func TestExtensionsAreChosen(t *testing.T) {
	for text, want := range map[string]string{"": "", "intl": "+intl", "-gd, +Intl": "+intl -gd", "gd gd": "+gd"} {
		got, err := ParseChoice([]string{text})
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, bad := range []string{"-", "a/b", "x;y"} {
		_, err := ParseChoice([]string{bad})
		assert.ErrorContains(t, err, "is no extension")
	}
	ctx := context.Background()
	all := Find(ctx)
	require.NotEmpty(t, all, "the tests need a PHP")
	p := all[0]
	x, err := p.Extensions(ctx)
	require.NoError(t, err)
	require.Contains(t, x.Loaded, "mbstring")
	args, err := p.Load(ctx, "-mbstring")
	require.NoError(t, err)
	out, err := exec.Command(p.CLI, append(args, "-r",
		"echo extension_loaded('mbstring') ? 'on' : 'off', extension_loaded('mysqli') ? "+
			"'on' : 'off';")...).CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, "offon", string(out))
	_, err = p.Load(ctx, "+nothing")
	assert.ErrorContains(t, err, "has no extension nothing")
	args, err = p.Load(ctx, "")
	require.NoError(t, err)
	assert.Empty(t, args)
}

func TestAFolderHoldsPHPByAnyOfItsNames(t *testing.T) {
	dir := t.TempDir()
	program(t, filepath.Join(dir, "plain", "php8.4"), "PHP 8.4.1 (cli)")
	program(t, filepath.Join(dir, "plain", "php-fpm8.4"), "PHP 8.4.1 (fpm-fcgi)")
	program(t, filepath.Join(dir, "deep", "7.4", "bin", "php"), "PHP 7.4.33 (cli)")
	program(t, filepath.Join(dir, "deep", "7.4", "sbin", "php-fpm7.4"), "PHP 7.4.33 (fpm-fcgi)")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "bare"), 0o755))
	folders := []string{
		filepath.Join(dir, "plain"),
		filepath.Join(dir, "deep"),
		filepath.Join(dir, "bare"),
		filepath.Join(dir, "none"),
	}
	found := map[string]PHP{}
	for _, p := range Find(context.Background(), folders...) {
		found[p.Version] = p
	}
	for version, at := range map[string]string{"8.4.1": "plain", "7.4.33": "deep"} {
		assert.Contains(t, found[version].CLI, at, version)
		assert.Contains(t, found[version].FPM, at, version)
	}
	assert.Equal(t, folders[2:], Empty(context.Background(), folders...))
}

func TestAProgramIsAskedOnceAsLongAsItIsTheSame(t *testing.T) {
	dir := t.TempDir()
	file, log := filepath.Join(dir, "php"), filepath.Join(dir, "log")
	says := func(version string) {
		program(t, file, "PHP "+version+" (cli) (built: today)'; echo 'x' >>'"+log)
	}
	asked := func() int {
		b, err := os.ReadFile(log)
		require.NoError(t, err)
		return len(b) / 2
	}
	says("8.1.20")
	for range 3 {
		require.Contains(t, Find(context.Background(), dir), PHP{Version: "8.1.20", CLI: file})
	}
	assert.Equal(t, 1, asked())
	says("8.1.21")
	assert.Contains(t, Find(context.Background(), dir), PHP{Version: "8.1.21", CLI: file})
	assert.Equal(t, 2, asked())
}
