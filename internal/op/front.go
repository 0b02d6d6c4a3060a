package op

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// ErrNoNotice is given for a live site before which no notice can be put.
var ErrNoNotice = errors.New("its web server shows no file in place of all its pages")

// aside is where a file of the site's own is while a notice has its place.
func aside(name string) string {
	return path.Join(path.Dir(name), host.TempPrefix+"aside-"+path.Base(name))
}

// Shut puts a notice before a site's visitors: of a copy the gateway shows it,
// of a live site its web server, by files that its stack knows of. The site is claimed
// by run.
func (e *Env) Shut(ctx context.Context, run string, s site.Site, f site.Front) error {
	if s.Role == site.Live {
		_, f.Pass = e.Pass(s.ID)
		if err := e.putNotice(ctx, run, s, f); err != nil {
			return err
		}
	}
	_, err := e.Record.ChangeSite(ctx, s.ID, func(s *site.Site) error {
		s.Front = &f
		if f.Kind == site.FrontParked {
			s.State = site.Parked
		}
		return nil
	})
	return err
}

// notices are the files that make a live site's web server show a front.
func (e *Env) notices(s site.Site, f site.Front) (map[string][]byte, error) {
	st, err := e.Stack(s.Stack)
	if err != nil {
		return nil, err
	}
	files := stack.NoticesOf(st).Notice(f)
	if len(files) == 0 {
		return nil, fmt.Errorf("%s: %w", s.Name, ErrNoNotice)
	}
	return files, nil
}

// putNotice writes the files, the one that switches the notice on at last. A
// file of the site's own that is in the way is put aside.
func (e *Env) putNotice(ctx context.Context, run string, s site.Site, f site.Front) error {
	files, err := e.notices(s, f)
	if err != nil {
		return err
	}
	root, err := e.Write(ctx, run, s, s.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	names := slices.Sorted(maps.Keys(files))
	slices.Reverse(names)
	for _, n := range names {
		ours, err := isNotice(root, n)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("putting a notice before the visitors of %s: %w", s.Name, err)
		}
		if err == nil && !ours {
			if err := root.Rename(n, aside(n)); err != nil {
				return fmt.Errorf("putting a notice before the visitors of %s: %w", s.Name, err)
			}
		}
		if _, err := host.Put(root, n, 0o644, time.Time{}, bytes.NewReader(files[n])); err != nil {
			return fmt.Errorf("putting a notice before the visitors of %s: %w", s.Name, err)
		}
	}
	return nil
}

// isNotice tells whether a file is one of Alibi's notices.
func isNotice(root host.Tree, name string) (bool, error) {
	text, err := host.ReadFile(root, name, 1<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	return err == nil && strings.Contains(string(text), NoticeMark), nil
}

// NoticeMark stands in every notice that Alibi writes.
const NoticeMark = "notice put here by alibi"

// Lift takes the notice away that stands before a site's visitors, if one does. The site is
// claimed by run.
func (e *Env) Lift(ctx context.Context, run string, s site.Site) error {
	if s.Role == site.Live {
		if err := e.takeNotice(ctx, run, s); err != nil {
			return err
		}
	}
	_, err := e.Record.ChangeSite(ctx, s.ID, func(s *site.Site) error {
		s.Front = nil
		if s.State == site.Parked {
			s.State = site.Ready
		}
		return nil
	})
	return err
}

func (e *Env) takeNotice(ctx context.Context, run string, s site.Site) error {
	files, err := e.notices(s, site.Front{Kind: site.FrontParked})
	if errors.Is(err, ErrNoNotice) {
		return nil
	}
	if err != nil {
		return err
	}
	root, err := e.Write(ctx, run, s, s.Root)
	if err != nil {
		return err
	}
	defer root.Close()
	for _, n := range slices.Sorted(maps.Keys(files)) { // what switches it on goes first
		ours, err := isNotice(root, n)
		if err == nil && ours {
			err = root.Remove(n)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("taking the notice away from %s: %w; remove %s there by hand", s.Name, err, n)
		}
		if _, err := root.Lstat(aside(n)); err == nil {
			if err := root.Rename(aside(n), n); err != nil {
				return fmt.Errorf("putting %s of %s back: %w", n, s.Name, err)
			}
		}
	}
	return nil
}
