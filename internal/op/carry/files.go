package carry

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"unicode/utf8"

	"alibi/internal/baseline"
	"alibi/internal/drift"
	"alibi/internal/host"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tree"
)

// File is a file on the side that is written to, as it was and as it is to be. Of one that is not there the entry has
// no path.
type File struct {
	Item   string        `json:"item"`
	Path   string        `json:"path"` // below the site's root
	Before tree.Entry    `json:"before,omitzero"`
	After  tree.Entry    `json:"after,omitzero"` // as the side that is read has it, but for one that is merged
	Base   baseline.File `json:"base,omitzero"`  // what the baseline knew of it, if it did
	Known  bool          `json:"known,omitempty"`
	// Text is what is in one that both sides changed, with both changes; Other is that of the side that is read, which
	// has not got it yet.
	Text  []byte     `json:"text,omitempty"`
	Other tree.Entry `json:"other,omitzero"`
	// Dropped says why it was put back.
	Dropped string `json:"dropped,omitempty"`
	// Sum is of the file that came, in records of earlier versions, which knew of no others.
	Sum tree.Hash `json:"sum,omitzero"`
}

// filesOf says what of an item's files is to be written; why it can't be.
func (c *carrying) filesOf(ctx context.Context, it *drift.Item) (out []File, why string, err error) {
	whole, stands := c.whole(it), c.take[it.Name] == c.from()
	for _, f := range it.Files {
		is, from := f.Copy, f.CopyIs
		was, to := f.Live, f.LiveIs
		if c.to == Copy {
			is, from, was, to = was, to, is, from
		}
		switch {
		case f.Collides && is != drift.Same:
			return nil, "the other side has another file at " + f.Path, nil
		case f.Collides, is == drift.Same && !(whole && was == drift.Gone):
			continue
		}
		put := File{Item: it.Name, Path: f.Path, Before: to, After: from, Base: f.Base, Known: f.Known}
		if is != drift.Same && was != drift.Same && !stands {
			text, whole := c.mergedFile(ctx, f, c.hand[plainName(it.Name)])
			if !whole && c.take[it.Name] == c.to {
				continue // it stays
			}
			if !whole {
				return nil, c.undecided(it), nil
			}
			put.Text, put.Other, put.After = text, from, c.entryOf(text, to)
		}
		if why, err := c.unfit(ctx, from, put.Text); why != "" || err != nil {
			return nil, why, err
		}
		out = append(out, put)
	}
	return out, "", ctx.Err()
}

// byAlibi stands in the files that Alibi writes for a copy.
const byAlibi = "Written by Alibi"

// unfit says of a text why it is not for the other side, since files are carried as they are: it holds the copy's own
// address, was written by Alibi for the copy, or opens the live site. text is what is carried of it; nil: what it has.
func (c *carrying) unfit(ctx context.Context, e tree.Entry, text []byte) (why string, err error) {
	if text == nil && (!e.Regular() || e.Path == "" || !e.Textual()) {
		return "", nil
	}
	if text == nil {
		if text, err = host.ReadFile(c.roots[c.from()], e.Path, e.Size+1); err != nil {
			return "", fmt.Errorf("reading %s: %w", e.Path, err)
		}
	}
	holds := func(what string) bool { return what != "" && bytes.Contains(text, []byte(what)) }
	for _, own := range c.ownTexts() {
		if holds(own) {
			return fmt.Sprintf("%s holds %q, which is %s's: change that there first", e.Path, own, c.called(c.from())), nil
		}
	}
	if c.to == Live {
		return site.Either(holds(byAlibi), e.Path+" was written by Alibi for the copy", ""), nil
	}
	if c.secrets == nil {
		c.secrets = []string{}
		if s, can := c.Transform.Stack.(stack.Secretive); can {
			if c.secrets, err = s.Secrets(ctx, c.livePlace); err != nil {
				return "", err
			}
		}
	}
	return site.Either(slices.ContainsFunc(c.secrets, holds), e.Path+" holds what opens the live site", ""), nil
}

// ownTexts are what no file may bring to the other side: the address and the folder of a copy that is read.
func (c *carrying) ownTexts() []string {
	switch {
	case c.to == Live:
		return []string{c.CopySite.Address().HostPort(), c.CopySite.Root}
	case c.beside:
		return []string{c.LiveSite.Address().HostPort(), c.LiveSite.Root}
	}
	return nil
}

// settleFiles notes files that both sides have in common in the baseline, and the folders that they are in.
func (s *Sides) settleFiles(ctx context.Context, to Side, list []File) error {
	var out []baseline.File
	var gone []string
	folders := map[string]bool{}
	for _, f := range list {
		for dir := path.Dir(f.Path); dir != "."; dir = path.Dir(dir) {
			folders[dir] = true
		}
		if f.After.Path == "" {
			gone = append(gone, f.Path)
			continue
		}
		is := f.After
		if sum, err := tree.HashFile(ctx, s.roots[to], f.Path); f.After.Regular() && (err != nil || sum != f.After.Hash) {
			is.MTime, is.Changed = is.MTime.AddDate(-1, 0, 0), is.Changed.AddDate(-1, 0,
				0) // others changed it: it is read again
		} else if fi, err := s.roots[to].Lstat(f.Path); err == nil {
			is = is.Seen(fi)
		}
		b := baseline.File{Origin: is, Copy: f.After}
		if to == Copy {
			b = baseline.File{Origin: f.After, Copy: is}
		}
		if f.Text != nil { // the other side has not got it yet: it is a change of this one's now
			b = baseline.File{Origin: f.Other, Copy: f.Other}
		}
		if f.After.Link != "" { // as it is written on either side
			b.Origin.Link, _ = s.roots[Live].Readlink(f.Path)
			b.Copy.Link, _ = s.roots[Copy].Readlink(f.Path)
		}
		out = append(out, b)
	}
	known, err := s.Base.Folders(ctx)
	if err != nil {
		return err
	}
	for dir := range folders {
		live, lerr := s.roots[Live].Lstat(dir)
		copied, cerr := s.roots[Copy].Lstat(dir)
		_, is := known[dir]
		switch {
		case lerr == nil && cerr == nil && !is:
			out = append(out, baseline.File{Origin: tree.Entry{Path: dir}.Seen(live), Copy: tree.Entry{Path: dir}.Seen(copied)})
		case errors.Is(lerr, fs.ErrNotExist) && errors.Is(cerr, fs.ErrNotExist) && is:
			gone = append(gone, dir)
		}
	}
	return errors.Join(s.Base.ForgetFiles(ctx, gone), s.Base.ChangeFiles(ctx, out))
}

// unsettleFiles notes what the sides had in common of files before a run that is undone.
func (s *Sides) unsettleFiles(ctx context.Context, list []File) error {
	var out []baseline.File
	var gone []string
	for _, f := range list {
		if f.Known {
			out = append(out, f.Base)
		} else {
			gone = append(gone, f.Path)
		}
	}
	return errors.Join(s.Base.ForgetFiles(ctx, gone), s.Base.ChangeFiles(ctx, out))
}

// turnedFiles gives changes of files that undo others.
func turnedFiles(list []File) (out []File) {
	for _, f := range list {
		out = append(out, File{Item: f.Item, Path: f.Path, Before: f.After, After: f.Before})
	}
	return out
}

// filed tells files as they are told now: in records of earlier versions they came, and nothing else, with their items.
func filed(rec *Record) {
	for i, f := range rec.Files {
		if f.Sum == (tree.Hash{}) || f.After.Path != "" {
			continue
		}
		rec.Files[i].After = tree.Entry{Path: f.Path, Mode: 0o644, Hash: f.Sum}
		for _, ch := range rec.Changes {
			if ch.Item == f.Item && ch.Dropped != "" {
				rec.Files[i].Dropped = ch.Dropped
			}
		}
	}
}

// pathsOf are the paths of files.
func pathsOf(list []File) (out []string) {
	for _, f := range list {
		out = append(out, f.Path)
	}
	slices.Sort(out)
	return out
}

// mostTexts is how many files of an item are shown with what is in them, and largestShown how large these may be.
const (
	mostTexts    = 8
	largestShown = 64 << 10
)

// tellFiles adds to an item what its files have in them, and to a plugin or theme what it is called and which version
// it is on either side.
func (s *Sides) tellFiles(ctx context.Context, it *drift.Item) {
	if it.Noise || len(it.Files) == 0 {
		return
	}
	if of := s.Transform.Items().FileItem(it.Files[0].Path); of.Folder != "" && of.Name == it.Name {
		known := stack.ComponentsOf(s.Transform.Stack)
		_, live, onLive := known.Identify(tree.Below(s.roots[Live], of.Folder), path.Base(of.Folder))
		_, copied, onCopy := known.Identify(tree.Below(s.roots[Copy], of.Folder), path.Base(of.Folder))
		it.Title = cmp.Or(copied.Name, live.Name, it.Title)
		if (onLive || onCopy) && live.Version != copied.Version {
			if onLive && onCopy {
				it.Fields = append([]string{"version"}, it.Fields...)
			}
			it.Versions = append(it.Versions, drift.Version{Field: "version", Live: site.Either(onLive, &live.Version, nil),
				Copy: site.Either(onCopy, &copied.Version, nil)})
		}
	}
	for i, f := range it.Files {
		if i == mostTexts {
			break
		}
		v := drift.Version{Field: path.Base(f.Path), Live: s.told(Live, f.LiveIs), Copy: s.told(Copy, f.CopyIs)}
		if f.Live != drift.Same && f.Copy != drift.Same {
			if was, known := s.wasFile(ctx, f); known {
				text := string(was)
				v.Was = &text
			}
		}
		it.Versions = append(it.Versions, v)
	}
}

// told is what is in a file, if that is a short text, or how large it is; nil: it is not there.
func (s *Sides) told(side Side, e tree.Entry) *string {
	if e.Path == "" {
		return nil
	}
	out := site.Size(e.Size) + ", " + e.MTime.Format("2 Jan 2006 15:04")
	if e.Link != "" {
		out = "leads to " + e.Link
	} else if e.Textual() && e.Size <= largestShown {
		if text, err := host.ReadFile(s.roots[side], e.Path, largestShown); err == nil && utf8.Valid(text) {
			out = string(text)
		}
	}
	return &out
}
