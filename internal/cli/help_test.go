package cli

import (
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var word = regexp.MustCompile(`"[^"]*"|'[^']*'|\S+`)

func TestHelpHasLinesAndExamplesThatAreRight(t *testing.T) {
	commands, lines := 0, 0
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			walk(sub)
		}
		for _, l := range strings.Split(c.Long, "\n") {
			assert.LessOrEqual(t, len([]rune(l)), helpWidth, "help of %s: %s", c.CommandPath(), l)
		}
		if !c.Runnable() {
			return
		}
		commands++
		assert.NotEmpty(t, c.Example, "%s has an example", c.CommandPath())
		for _, l := range strings.Split(c.Example, "\n") {
			lines++
			checkExample(t, c, l)
		}
	}
	a := &app{}
	root := a.root()
	explain(root)
	walk(root)
	assert.Greater(t, commands, 90)
	assert.Greater(t, lines, commands)
}

// checkExample checks that a line is one of the command's, with flags and arguments as it
// takes them.
func checkExample(t *testing.T, c *cobra.Command, line string) {
	t.Helper()
	var given []string
	for _, w := range word.FindAllString(line, -1) {
		if w == "#" {
			break
		}
		given = append(given, strings.Trim(w, `"'`))
	}
	require.Greater(t, len(given), 0, line)
	require.Equal(t, "alibi", given[0], line)
	a := &app{}
	found, rest, err := a.root().Find(given[1:])
	if !assert.NoError(t, err, line) {
		return
	}
	if c.HasSubCommands() {
		assert.True(t, strings.HasPrefix(found.CommandPath(), c.CommandPath()), line)
	} else {
		assert.Equal(t, c.CommandPath(), found.CommandPath(), line)
	}
	if !assert.NoError(t, found.ParseFlags(rest), line) {
		return
	}
	if found.Args != nil {
		assert.NoError(t, found.Args(found, found.Flags().Args()), line)
	}
}
