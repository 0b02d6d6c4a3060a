package tree

import (
	"path"
	"strings"
)

// textual are the endings of files in which an address matters.
var textual = map[string]bool{
	".css":  true,
	".js":   true,
	".html": true,
	".htm":  true,
	".json": true,
	".xml":  true,
	".txt":  true,
	".php":  true,
	".svg":  true,
	".map":  true,
}

// largestText is from which size on a file is not looked into for addresses.
const largestText = 2 << 20

// Textual tells whether a file is a text, by its name, that is small enough to be looked into.
func (e Entry) Textual() bool {
	name := strings.ToLower(path.Base(e.Path))
	return (textual[path.Ext(name)] || strings.HasPrefix(name, ".") || strings.Contains(name, "config")) &&
		e.Size <= largestText
}
