package drift

import (
	"context"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"alibi/internal/baseline"
	"alibi/internal/host"
	"alibi/internal/stack"
	"alibi/internal/tree"
)

// largestText is how large a file may be of which the lines are merged, and mostOfTexts how many bytes of such files
// are kept of a copy.
const (
	largestText = 256 << 10
	mostOfTexts = 64 << 20
)

// written are the endings of files that people write, beside those in which addresses matter.
var written = map[string]bool{".md": true, ".ini": true, ".yml": true, ".yaml": true, ".toml": true, ".conf": true,
	".scss": true, ".sass": true, ".less": true, ".ts": true, ".tsx": true, ".jsx": true, ".vue": true, ".po": true,
	".twig": true, ".tpl": true, ".inc": true, ".phtml": true, ".csv": true}

// HasLines tells whether a file is a text, by its name and size, that is merged by its lines.
func HasLines(e tree.Entry) bool {
	return e.Regular() && e.Size <= largestText && (e.Textual() || written[strings.ToLower(path.Ext(e.Path))])
}

// KeepFiles keeps what is in the texts of a copy that its baseline knows, for their lines to be merged: those of
// plugins and themes, and others but for the core's and what the site writes by itself.
func KeepFiles(ctx context.Context, v *baseline.Values, base *baseline.Baseline, root host.Tree, of stack.Items) error {
	known, err := base.Files(ctx)
	if err != nil {
		return err
	}
	var want []tree.Hash
	var list []tree.Entry
	seen, size := map[tree.Hash]bool{}, int64(0)
	for _, name := range slices.Sorted(maps.Keys(known)) {
		f, is := known[name], of.FileItem(name)
		e := f.Copy
		if f.Own || !HasLines(e) || is.Passing || is.Kind == stack.CoreKind || seen[e.Hash] || size+e.Size > mostOfTexts {
			continue
		}
		seen[e.Hash] = true
		size += e.Size
		want, list = append(want, e.Hash), append(list, e)
	}
	return v.PutTexts(ctx, want, func(missing map[tree.Hash]bool, give func(tree.Hash, []byte) error) error {
		var read []tree.Entry
		for _, e := range list {
			if missing[e.Hash] {
				read = append(read, e)
			}
		}
		var one sync.Mutex
		return tree.Each(ctx, root, read, func(e tree.Entry, r io.Reader) error {
			text, err := io.ReadAll(io.LimitReader(r, largestText+1))
			if err != nil {
				return nil //nolint:nilerr // it is not known then what was in it
			}
			sum := tree.Sum(text)
			one.Lock()
			defer one.Unlock()
			if !missing[sum] {
				return nil // somebody changed it already
			}
			missing[sum] = false
			return give(sum, text)
		})
	})
}
