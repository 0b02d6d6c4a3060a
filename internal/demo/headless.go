package demo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"alibi/internal/desk"
	"alibi/internal/keeper"
	"alibi/internal/site"
)

// Show populates the world and opens the screens on it.
func (w *World) Show(ctx context.Context, d *desk.Desk, screens func(context.Context, *desk.Desk, bool) error) error {
	if err := w.Settle(ctx, d); err != nil {
		return err
	}
	return Kept(ctx, d, func() error {
		if err := w.Populate(ctx, d); err != nil {
			return err
		}
		return screens(ctx, d, true)
	})
}

// Kept does something while this process is the keeper.
func Kept(ctx context.Context, d *desk.Desk, do func() error) error {
	k, err := keeper.Take(d)
	if err != nil {
		return err
	}
	kctx, stop := context.WithCancel(ctx)
	defer stop()
	done := make(chan error, 1)
	go func() { done <- k.Run(kctx) }()
	err = do()
	stop()
	return errors.Join(err, <-done)
}

// spoils are the ways to damage a copy that evidence claims to see.
var spoils = map[string]func(w *World, s site.Site) error{
	"row-changed":   sqlSpoil("UPDATE sk_posts SET post_content = post_content || 'x' WHERE ID = 7"),
	"row-missing":   sqlSpoil("DELETE FROM sk_posts WHERE ID = 9"),
	"row-extra":     sqlSpoil("INSERT INTO sk_terms (name, slug) VALUES ('stowaway', 'stowaway')"),
	"table-missing": sqlSpoil("DROP TABLE sk_term_relationships"),
	"index-missing": sqlSpoil("DROP INDEX sk_posts_name"),
	"address-left": sqlSpoil("UPDATE sk_options SET option_value = 'https://skerryline.example/left' WHERE " +
		"option_name = 'skerry_cdn'"),
	"serialized": sqlSpoil("UPDATE sk_postmeta SET meta_value = replace(meta_value, 's:4:\"type\"', 's:5:\"type\"') " +
		"WHERE meta_key = '_layout'"),
	"file-changed": func(_ *World, s site.Site) error {
		p := filepath.Join(s.Root, "wp-content/themes/harbour/style.css")
		b, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		b[len(b)/2] ^= 1
		return os.WriteFile(p, b, 0o600)
	},
	"file-missing": func(_ *World, s site.Site) error {
		return os.Remove(filepath.Join(s.Root, "wp-content/plugins/tide-table/tide-table.php"))
	},
	"file-extra": func(_ *World, s site.Site) error {
		return os.WriteFile(filepath.Join(s.Root, "stowaway.php"), []byte("<?php\n"), 0o600)
	},
	"pages-dead": sqlSpoil("ALTER TABLE sk_options RENAME COLUMN option_value TO gone"),
	"database-damaged": func(_ *World, s site.Site) error {
		f, err := os.OpenFile(s.Database.Path, os.O_RDWR, 0)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = f.WriteAt([]byte(strings.Repeat("\xff", 4096)), 4096*6)
		return err
	},
	"shared-database": func(w *World, s site.Site) error {
		origin := w.Dir("pier", "/srv/skerryline/public/wp-content/database/.ht.sqlite")
		if err := os.Remove(s.Database.Path); err != nil {
			return err
		}
		return os.Link(origin, s.Database.Path)
	},
}

func sqlSpoil(statement string) func(w *World, s site.Site) error {
	return func(w *World, s site.Site) error { return w.edit(s.Database.Path, statement) }
}

// SpoilKinds lists the ways to damage a copy.
func SpoilKinds() string {
	kinds := make([]string, 0, len(spoils))
	for k := range spoils {
		kinds = append(kinds, k)
	}
	sort.Strings(kinds)
	return strings.Join(kinds, ", ")
}

// Spoil damages a copy in one of these ways.
func (w *World) Spoil(kind string, s site.Site) error {
	f := spoils[kind]
	if f == nil {
		return fmt.Errorf("%q is no way to spoil a copy: %s", kind, SpoilKinds())
	}
	if err := f(w, s); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("spoiling the copy: %w", err)
	}
	return nil
}
