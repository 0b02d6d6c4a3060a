package real

import (
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Again sets a site up as Make does, in a fraction of the time from the second time on that
// one of its kind is wanted on the same day: its files and its database's dump are kept in the cache.
// Of the core only what runs on the server is there.
func Again(ctx context.Context, s Spec) error {
	kept, err := s.template(ctx)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(s.Root), 0o755); err != nil {
		return err
	}
	if err := copyTree(ctx, filepath.Join(kept, "site"), s.Root); err != nil {
		return err
	}
	if err := s.database(ctx); err != nil {
		return err
	}
	if err := s.load(ctx, filepath.Join(kept, "tables.sql")); err != nil {
		return err
	}
	return s.config(s.Network != nil)
}

// load has the server's own client load a dump, as the administrator who needs no password
// on the server's socket.
func (s Spec) load(ctx context.Context, dump string) error {
	in, err := os.Open(dump)
	if err != nil {
		return err
	}
	defer in.Close()
	socket := strings.TrimPrefix(s.Server, "localhost:")
	cmd := exec.CommandContext(ctx, "mariadb", "--no-defaults", "--user", "root", "--socket", socket, s.Database)
	cmd.Stdin = in
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("loading the tables of %s: %w: %s", s.URL, err, out)
	}
	return s.outdated(ctx)
}

// outdated removes the results that the CMS keeps for a while: those of a site that was kept
// are over sooner than its own would be, and it would make them anew in the midst of a test.
func (s Spec) outdated(ctx context.Context) error {
	db := s.Admin.Open(s.Database, tables.Prefix{})
	remove := "DELETE FROM `%soptions` WHERE option_name LIKE '%%\\_transient\\_%%'"
	list := []string{fmt.Sprintf(remove, s.Prefix)}
	for i := range s.Network {
		list = append(list, fmt.Sprintf(remove, fmt.Sprintf("%s%d_", s.Prefix, i+2)))
	}
	if s.Network != nil {
		list = append(list, "DELETE FROM `"+s.Prefix+"sitemeta` WHERE meta_key LIKE '%\\_transient\\_%'")
	}
	for _, q := range list {
		if err := db.Exec(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// template gives the folder where a site of this kind is kept, which is made first if need be.
func (s Spec) template(ctx context.Context) (string, error) {
	cache, err := Cache()
	if err != nil {
		return "", err
	}
	kind, err := s.kind(cache)
	if err != nil {
		return "", err
	}
	all := filepath.Join(cache, "made")
	dir := filepath.Join(all, time.Now().Format("20060102-")+kind)
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	if err := os.MkdirAll(all, 0o755); err != nil {
		return "", err
	}
	forget(all)
	begun, err := os.MkdirTemp(all, "begun-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(begun)
	first := s
	first.Root, first.Database = filepath.Join(begun, "site"), "made_"+filepath.Base(begun)[len("begun-"):]
	if err := Make(ctx, first); err != nil {
		return "", err
	}
	if err := first.slim(); err != nil {
		return "", err
	}
	if err := first.dump(ctx, filepath.Join(begun, "tables.sql")); err != nil {
		return "", err
	}
	if err := os.Chmod(begun, 0o755); err != nil {
		return "", err
	}
	if err := os.Rename(begun, dir); err != nil { // another process was faster
		if _, serr := os.Stat(dir); serr != nil {
			return "", err
		}
	}
	return dir, nil
}

// browsers are the kinds of files that the CMS only hands to browsers.
var browsers = []string{".js", ".css", ".scss", ".png", ".gif", ".svg", ".woff2", ".ttf"}

// inlined tells whether the CMS itself reads such a file, to write it into pages.
func inlined(name string) bool {
	is, err := filepath.Match("wp-*.min.js", name)
	return err == nil && is
}

// slim leaves out of the core what it only hands to browsers, three files of five: tests make, digest and remove sites
// by the hundred.
func (s Spec) slim() error {
	for _, dir := range []string{"wp-admin", "wp-includes"} {
		err := filepath.WalkDir(filepath.Join(s.Root, dir), func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || inlined(d.Name()) || !slices.Contains(browsers, filepath.Ext(name)) {
				return err
			}
			return os.Remove(name)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// dump writes the site's tables to a file, and removes its database and its account.
func (s Spec) dump(ctx context.Context, file string) error {
	snap, err := s.Admin.Open(s.Database, tables.Prefix{}).Snapshot(ctx)
	if err != nil {
		return err
	}
	defer snap.Close()
	var b bytes.Buffer
	if err := engines.Dump(ctx, snap, &b); err != nil {
		return err
	}
	snap.Close()
	if err := s.Admin.DropDatabase(ctx, s.Database); err != nil {
		return err
	}
	if err := s.Admin.DropAccount(ctx, s.Database); err != nil {
		return err
	}
	return os.WriteFile(file, b.Bytes(), 0o600)
}

// kind tells sites apart that are not set up alike: what they are, and what sets them up.
func (s Spec) kind(cache string) (string, error) {
	doc, err := json.Marshal(s)
	if err != nil {
		return "", err
	}
	core, err := os.ReadFile(filepath.Join(cache, "wordpress/wp-includes/version.php"))
	if err != nil {
		return "", fmt.Errorf("WordPress is not in %s: run script/real first", cache)
	}
	h := sha256.New()
	parts := [][]byte{doc, []byte(s.Prefix), seedPHP, tideTable, core}
	err = fs.WalkDir(theme, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := theme.ReadFile(path)
		parts = append(parts, []byte(path), b)
		return err
	})
	if err != nil {
		return "", err
	}
	for _, part := range parts {
		h.Write(part)
		h.Write([]byte{0})
	}
	return hex.EncodeToString(h.Sum(nil)[:8]), nil
}

// forget removes what was kept on other days: what a site has to do by itself is due then.
func forget(all string) {
	list, _ := os.ReadDir(all)
	for _, e := range list {
		if !strings.HasPrefix(e.Name(), time.Now().Format("20060102-")) && !strings.HasPrefix(e.Name(), "begun-") {
			_ = os.RemoveAll(filepath.Join(all, e.Name())) // the next time it is tried again
		}
	}
}

func copyTree(ctx context.Context, from, to string) error {
	if out, err := exec.CommandContext(ctx, "cp", "-a", "--reflink=auto", from, to).CombinedOutput(); err != nil {
		return fmt.Errorf("copying %s: %w: %s", from, err, out)
	}
	return nil
}
