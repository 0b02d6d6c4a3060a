package clone

import (
	"context"

	"alibi/internal/baseline"
	"alibi/internal/tables"
)

// sameWhole tells whether a table whose rows can't be told one by one is as it
// was on both sides, and then notes it.
func (p *patching) sameWhole(ctx context.Context, tab tables.Table, n *noting, noted int64) (bool, error) {
	var origin, copied uint64
	for _, part := range tables.Shards(noted) {
		base, err := p.was.Shard(ctx, tab.Name, part)
		if err != nil {
			return false, err
		}
		for _, b := range base {
			origin, copied = origin+b.Origin, copied+b.Copy
		}
	}
	rows, sum, err := p.snap.(tables.Summer).Total(ctx, tab.Name, tables.Range{})
	if err != nil || rows != noted || sum != origin {
		return false, err
	}
	rows, sum, err = p.copied.(tables.Summer).Total(ctx, tab.Name, tables.Range{})
	if err != nil || rows != noted || sum != copied {
		return false, err
	}
	return true, p.asItWas(ctx, n, noted)
}

// asItWas notes a table that did not change on either side.
func (p *patching) asItWas(ctx context.Context, n *noting, rows int64) error {
	for _, part := range tables.Shards(rows) {
		base, err := p.was.Shard(ctx, n.tab.Name, part)
		if err != nil {
			return err
		}
		for k, b := range base {
			n.tally.Add(n.tab.Name, tables.Digest{b.Origin})
			if err := n.w.Put(ctx, k, b); err != nil {
				return err
			}
			if err := n.tick(ctx); err != nil {
				return err
			}
		}
	}
	return p.leave(ctx, n)
}

// quiet finds out to which tables nobody wrote since the copy was compared.
func (p *patching) quiet(ctx context.Context, was baseline.Meta) error {
	same := func(of any, was map[string]string) (map[string]bool, error) {
		now, err := tables.Quiet(ctx, of)
		out := make(map[string]bool, len(now))
		for t, at := range now {
			out[t] = tables.Same(was[t], at)
		}
		return out, err
	}
	if p.x.d.Choices.Fresh {
		return nil // every row is compared, whatever the server says of its tables
	}
	var err error
	if p.originQuiet, err = same(p.snap, was.Quiet.Origin); err != nil {
		return err
	}
	p.copyQuiet, err = same(p.copied, was.Quiet.Copy)
	return err
}
