package op

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"alibi/internal/stack"
)

// Declarations reads what is declared of components: the files *.toml in the folder declarations of the home, in the
// order of their names.
func (e *Env) Declarations() (out []stack.Declaration, err error) {
	dir := filepath.Join(e.Home, "declarations")
	list, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the declarations: %w", err)
	}
	for _, f := range list {
		if !strings.HasSuffix(f.Name(), ".toml") {
			continue
		}
		name := filepath.Join(dir, f.Name())
		src, err := os.ReadFile(name)
		if err != nil {
			return nil, fmt.Errorf("reading the declarations: %w", err)
		}
		d, err := stack.ParseDeclaration(name, src)
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, nil
}
