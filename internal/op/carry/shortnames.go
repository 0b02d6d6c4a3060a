package carry

import (
	"context"
	"fmt"
	"strings"

	"alibi/internal/drift"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// Where both sides gave one short name to two things, addresses would lead to one of them only. The copy's gets another
// one, on the copy itself; the live site's stay.

// shortNames finds rows of the copy that are to get another short name, and which.
func (s *Sides) shortNames(ctx context.Context, items []*drift.Item) (map[*drift.Row]stack.ShortName, error) {
	of, prefix := s.Transform.Items(), s.Transform.Change.Origin.Prefix
	live := map[stack.ShortName]tables.Row{}
	for _, it := range items {
		for _, r := range it.Rows {
			if r.Live != drift.Same && r.LiveRow != nil {
				if n := of.ShortName(prefix, r.Table, *r.LiveRow); n.Name != "" {
					live[n] = *r.LiveRow
				}
			}
		}
	}
	var out map[*drift.Row]stack.ShortName
	for _, it := range items {
		for _, r := range it.Rows {
			if r.Copy == drift.Same || r.CopyRow == nil {
				continue
			}
			n := of.ShortName(prefix, r.Table, *r.CopyRow)
			other, taken := live[n]
			if n.Name == "" || !taken || r.Paired != nil || !r.Collides && sameKey(other.Key, r.Key) {
				continue
			}
			free, err := s.freeName(ctx, r.Table, n)
			if err != nil {
				return nil, err
			}
			if out == nil {
				out = map[*drift.Row]stack.ShortName{}
			}
			out[r] = free
		}
	}
	return out, nil
}

// longestName is how many letters of a name are kept when a number is added to it.
const longestName = 190

// freeName finds a short name that begins like one and that neither side has among those like it.
func (s *Sides) freeName(ctx context.Context, t tables.Table, like stack.ShortName) (stack.ShortName, error) {
	of, prefix := s.Transform.Items(), s.Transform.Change.Origin.Prefix
	taken := map[string]bool{}
	for _, snap := range []tables.Snapshot{s.Live, s.Copy} {
		parts, err := snap.Ranges(ctx, t.Name, 1<<30)
		if err != nil {
			return like, err
		}
		for _, part := range parts {
			if err := snap.Read(ctx, t.Name, part, func(r tables.Row) error {
				if n := of.ShortName(prefix, t, r); n.Among == like.Among {
					taken[n.Name] = true
				}
				return nil
			}); err != nil {
				return like, err
			}
		}
	}
	free := like
	for i := 2; taken[free.Name]; i++ {
		free.Name = fmt.Sprintf("%.*s-%d", longestName, like.Name, i)
	}
	return free, nil
}

// leads names the rows of the copy whose texts have a short name in an address that another thing has from now on.
func leads(it *drift.Item, r *drift.Row, names map[*drift.Row]stack.ShortName, of stack.Items, prefix string,
) (out []string) {
	for changed, to := range names {
		was := of.ShortName(prefix, changed.Table, *changed.CopyRow).Name
		for _, v := range r.CopyRow.Values {
			if text := v.String(); strings.Contains(text, "/"+was+"/") || strings.Contains(text, "/"+was+`"`) {
				out = append(out, fmt.Sprintf("%s has an address with /%s/, which is /%s/ now", it.Name, was, to.Name))
				break
			}
		}
	}
	return out
}
