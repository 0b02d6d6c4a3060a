package wordpress

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"alibi/internal/host"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// components lists plugins and themes by the headers of their files.
func components(ctx context.Context, p stack.Place, f *site.Facts) error {
	plugins, err := folders(p.Root, "wp-content/plugins")
	if err != nil {
		return err
	}
	themes, err := folders(p.Root, "wp-content/themes")
	if err != nil {
		return err
	}
	must, err := folders(p.Root, "wp-content/mu-plugins")
	if err != nil {
		return err
	}
	found := make([]*site.Component, len(plugins)+len(themes)+len(must))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	read := func(i int, fn func() *site.Component) {
		g.Go(func() error {
			found[i] = fn()
			return ctx.Err()
		})
	}
	for i, e := range plugins {
		read(i, func() *site.Component { return plugin(p.Root, "wp-content/plugins", e) })
	}
	for i, e := range must {
		read(len(plugins)+i, func() *site.Component {
			c := plugin(p.Root, "wp-content/mu-plugins", e)
			if c != nil {
				c.State = "must-use"
			}
			return c
		})
	}
	for i, e := range themes {
		read(len(plugins)+len(must)+i, func() *site.Component {
			if !e.IsDir() {
				return nil
			}
			return header(p.Root, path.Join("wp-content/themes", e.Name(), "style.css"), "Theme Name", e.Name())
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for i, c := range found {
		switch {
		case c == nil:
		case i < len(plugins)+len(must):
			f.Plugins = append(f.Plugins, *c)
		default:
			f.Themes = append(f.Themes, *c)
		}
	}
	return nil
}

func folders(root host.Tree, dir string) ([]fs.FileInfo, error) {
	list, err := root.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("listing %s: %w", dir, err)
	}
	return slices.DeleteFunc(list, func(e fs.FileInfo) bool { return host.Passing(e.Name()) }), nil
}

// plugin reads a plugin's header: of a single file, or of the one file in a
// folder that has a header, the one named like the folder first.
func plugin(root host.Tree, dir string, e fs.FileInfo) *site.Component {
	name := path.Join(dir, e.Name())
	if !e.IsDir() {
		if !strings.HasSuffix(e.Name(), ".php") {
			return nil
		}
		return header(root, name, "Plugin Name", strings.TrimSuffix(e.Name(), ".php"))
	}
	return pluginIn(root, name, e.Name())
}

// pluginIn reads the header of a plugin in a folder.
func pluginIn(root host.Tree, dir, slug string) *site.Component {
	if c := header(root, path.Join(dir, slug+".php"), "Plugin Name", slug); c != nil {
		return c
	}
	list, err := root.ReadDir(dir)
	if err != nil {
		return nil
	}
	for _, f := range list {
		if strings.HasSuffix(f.Name(), ".php") && f.Name() != slug+".php" {
			if c := header(root, path.Join(dir, f.Name()), "Plugin Name", slug); c != nil {
				return c
			}
		}
	}
	return nil
}

// header reads the fields in a file's first comment: "Version: 1.2". A file
// without the field that names it gives nil.
func header(root host.Tree, file, nameField, slug string) *site.Component {
	f, err := root.Open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	b, _ := io.ReadAll(io.LimitReader(f, 8<<10))
	fields := map[string]string{}
	sc := bufio.NewScanner(bytes.NewReader(b))
	for sc.Scan() {
		k, v, ok := strings.Cut(strings.TrimLeft(sc.Text(), " \t/*#@"), ":")
		if v = strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(v), "*/")); ok && v != "" && fields[k] == "" {
			fields[k] = v
		}
	}
	if fields[nameField] == "" {
		return nil
	}
	c := &site.Component{
		Slug:         slug,
		Name:         fields[nameField],
		Version:      fields["Version"],
		RequiresCore: fields["Requires at least"],
		RequiresPHP:  fields["Requires PHP"],
		Parent:       fields["Template"],
	}
	c.File = file
	if in, ok := strings.CutPrefix(file, "wp-content/"); ok {
		_, c.File, _ = strings.Cut(in, "/")
	}
	for r := range strings.SplitSeq(fields["Requires Plugins"], ",") {
		if r = strings.TrimSpace(r); r != "" {
			c.Requires = append(c.Requires, r)
		}
	}
	return c
}

// spare are the parts of a tree that a copy can do without.
var spare = map[string]string{
	"wp-content/cache":              "cache",
	"wp-content/upgrade":            "leftover of updates",
	"wp-content/debug.log":          "log",
	"error_log":                     "log",
	"wp-content/backups":            "archives",
	"wp-content/object-cache.php":   "cache shared with the live site",
	"wp-content/advanced-cache.php": "cache",
}

func measure(ctx context.Context, p stack.Place, f *site.Facts) (*stack.Measured, error) {
	w, err := stack.Measure(ctx, p, f.Database, 2, func(name string) string {
		if why := spare[name]; why != "" {
			return why
		}
		return stack.SpareByName(name)
	})
	if err == nil {
		w.Tell(f, Stack{}.CoreFile)
	}
	return w, err
}
