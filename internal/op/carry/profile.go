package carry

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"alibi/internal/site"
	"alibi/internal/stack"
)

// Profile is what is carried and to which side, stored under a name: a TOML document in the folder profiles of the
// home.
type Profile struct {
	To    string   `toml:"to,omitempty"` // live, copy or both
	All   bool     `toml:"all,omitempty"`
	Kinds []string `toml:"kinds,omitempty"`
	Items []string `toml:"items,omitempty"`
	But   []string `toml:"but,omitempty"`
	Find  string   `toml:"find,omitempty"`
	Sub   string   `toml:"sub_site,omitempty"`
}

func profiles(home string) string { return filepath.Join(home, "profiles") }

// ReadProfile reads the profile of a name.
func ReadProfile(home, name string) (p Profile, err error) {
	if site.Slug(name) != name {
		return p, fmt.Errorf("%q is no name of a profile: only a-z, 0-9 and - between them", name)
	}
	file := filepath.Join(profiles(home), name+".toml")
	src, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		known := "none is stored yet"
		if names := profileNames(home); len(names) > 0 {
			known = "there are " + strings.Join(names, ", ")
		}
		return p, fmt.Errorf("no profile is called %s: %s; --save NAME stores one", name, known)
	}
	if err != nil {
		return p, err
	}
	return p, stack.DecodeTOML(file, "a profile", src, &p)
}

func profileNames(home string) (out []string) {
	list, err := os.ReadDir(profiles(home))
	if err != nil {
		return nil
	}
	for _, f := range list {
		if name, is := strings.CutSuffix(f.Name(), ".toml"); is {
			out = append(out, name)
		}
	}
	return out
}

// WriteProfile stores a profile, in place of one of that name.
func WriteProfile(home, name string, p Profile) error {
	if site.Slug(name) != name {
		return fmt.Errorf("%q can't be the name of a profile: only a-z, 0-9 and - between them; try %q", name,
			site.Slug(name))
	}
	text, err := toml.Marshal(p)
	if err != nil {
		return err
	}
	if err := putFile(filepath.Join(profiles(home), name+".toml"), text); err != nil {
		return fmt.Errorf("storing the profile: %w", err)
	}
	return nil
}
