package reset

import (
	"bytes"
	"context"
	"errors"
	"io/fs"

	"alibi/internal/depot/pointhost"
	"alibi/internal/stack"
	"alibi/internal/state"
	"alibi/internal/tables"
)

// What was taken out of an archive is not known, and never takes the place of
// what the site has: passwords, their digests and keys stay the site's own.

// keepSecretFiles leaves the files out that the archive has without their
// secrets, if the site has them.
func (e *ends) keepSecretFiles(h *pointhost.Host, w *state.Wanted) {
	if !h.Point().Redacted() {
		return
	}
	has, in := stack.SecretsOf(e.st).Redact(e.s.Database.Prefix).Has, w.InScope
	there := map[string]bool{}
	w.InScope = func(p string) bool {
		if !in(p) || !has(p) {
			return in(p)
		}
		if _, known := there[p]; !known {
			_, err := e.place.Root.Lstat(p)
			there[p] = !errors.Is(err, fs.ErrNotExist)
		}
		return !there[p]
	}
}

// keepSecretRows gives the rows that the archive has, with the secrets that the
// site has in the row of the same key, if it is about the same thing.
func (e *ends) keepSecretRows(
	h *pointhost.Host,
	now tables.Snapshot,
	t tables.Table,
	rows func(context.Context, func(tables.Row) error) error,
) func(context.Context, func(tables.Row) error) error {
	is, has := now.Schema().Table(t.Name)
	if !h.Point().Redacted() || !has {
		return rows
	}
	by := stack.SecretsOf(e.st).Redact(e.s.Database.Prefix)
	return func(ctx context.Context, give func(tables.Row) error) error {
		keys := tables.Keys(now, is)
		own := map[uint64]tables.Row{} // rows of the site's that have secrets
		err := state.Rows(now, is.Name)(ctx, func(r tables.Row) error {
			if secret(is, r, by.Row(is, r)) {
				own[keys.Of(r)] = tables.Row{Key: tables.Keep(r.Key), Values: tables.Keep(r.Values)}
			}
			return nil
		})
		if err != nil {
			return err
		}
		return rows(ctx, func(r tables.Row) error {
			if site, ok := own[keys.Of(r)]; ok && by.Same(t, r, site) {
				r = unredacted(t, r, is, site, by.Row(is, site))
			}
			return give(r)
		})
	}
}

// secret tells whether a redaction changed a row.
func secret(t tables.Table, r, without tables.Row) bool {
	for i := range t.Columns {
		if !bytes.Equal(r.Values[i].Bytes, without.Values[i].Bytes) {
			return true
		}
	}
	return false
}

// unredacted gives a row the values of the site's own in the columns that a
// redaction empties.
func unredacted(t tables.Table, r tables.Row, is tables.Table, site, without tables.Row) tables.Row {
	out := tables.Row{Key: r.Key, Values: tables.Keep(r.Values)}
	for i, c := range t.Columns {
		k := is.Column(c.Name)
		if k >= 0 && !bytes.Equal(site.Values[k].Bytes, without.Values[k].Bytes) && len(r.Values[i].Bytes) == 0 {
			out.Values[i] = site.Values[k]
		}
	}
	return out
}
