package cert

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"alibi/internal/dns"
	"alibi/internal/host"
	"alibi/internal/site"
)

// Records show by a record of the name's zone that it is ours (RFC 8555, section 8.4).
type Records struct {
	Zone    string
	Change  dns.Provider
	Servers []dns.Server // that are responsible for it
}

// Kind is "dns-01".
func (Records) Kind() string { return "dns-01" }

func recordName(name string) string { return "_acme-challenge." + strings.TrimPrefix(name, "*.") }

// records gives the set that is there, and the same with a text or without it.
func (r Records) sets(ctx context.Context, name, text string, with bool) (is, want site.RecordSet, err error) {
	if len(r.Servers) == 0 {
		return is, want, fmt.Errorf("no server of zone %s is known", r.Zone)
	}
	if is, err = r.Servers[0].Set(ctx, recordName(name), "TXT"); err != nil {
		return is, want, err
	}
	value := strconv.Quote(text)
	want = is.With(time.Minute)
	want.Values = slices.DeleteFunc(slices.Clone(is.Values), func(v string) bool { return v == value })
	if with {
		want.Values = append(want.Values, value)
	}
	return is, want, nil
}

// Show adds the record, and waits until each server has it.
func (r Records) Show(ctx context.Context, name, _, text string) error {
	is, want, err := r.sets(ctx, name, text, true)
	if err != nil {
		return err
	}
	if err := r.Change.Change(ctx, r.Zone, []site.RecordSet{is}, []site.RecordSet{want}); err != nil {
		return err
	}
	for began := time.Now(); ; {
		late := ""
		for _, s := range r.Servers {
			if now, err := s.Set(ctx, want.Name, want.Type); err != nil || !now.Same(want) {
				late = string(s)
			}
		}
		if late == "" || time.Since(began) > patience {
			return nil // the authority says whether that is enough
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

// Away removes the record.
func (r Records) Away(ctx context.Context, name, _, text string) error {
	is, want, err := r.sets(ctx, name, text, false)
	if err != nil || is.Same(want) {
		return err
	}
	return r.Change.Change(ctx, r.Zone, []site.RecordSet{is}, []site.RecordSet{want})
}

// Files show by a file of the site that its names are ours (RFC 8555, section 8.3).
type Files struct {
	// Write opens the document root of the site where its names lead.
	Write func(ctx context.Context) (host.Root, error)
}

// Kind is "http-01".
func (Files) Kind() string { return "http-01" }

const (
	known      = ".well-known"
	challenges = known + "/acme-challenge"
)

// Show puts the file.
func (f Files) Show(ctx context.Context, _, token, text string) error {
	root, err := f.Write(ctx)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := host.MkdirAll(root, challenges, 0o755); err != nil {
		return fmt.Errorf("making %s in the site's folder: %w", challenges, err)
	}
	_, err = host.Put(root, path.Join(challenges, token), 0o644, time.Time{}, strings.NewReader(text))
	return err
}

// Away removes the file, and the folders above it if they are empty then.
func (f Files) Away(ctx context.Context, _, token, _ string) error {
	root, err := f.Write(ctx)
	if err != nil {
		return err
	}
	defer root.Close()
	if err := root.Remove(path.Join(challenges, token)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, dir := range []string{challenges, known} {
		if in, err := root.ReadDir(dir); err != nil || len(in) > 0 {
			return nil
		}
		if err := root.Remove(dir); err != nil {
			return err
		}
	}
	return nil
}
