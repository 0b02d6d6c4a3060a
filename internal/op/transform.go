package op

import (
	"alibi/internal/rewrite"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// Transform is how rows and configuration of an origin become a copy's.
func (e *Env) Transform(origin, copied site.Site, title bool) (*stack.Transform, error) {
	st, err := e.Stack(origin.Stack)
	if err != nil {
		return nil, err
	}
	rw, err := rewrite.New(Pairs(origin.Facts.Addresses, copied.Address()),
		[]rewrite.PathPair{{From: origin.Root, To: copied.Root}})
	if err != nil {
		return nil, err
	}
	tr := &stack.Transform{
		Stack: st,
		Change: stack.Change{
			Origin:   *origin.Facts,
			Copy:     copied,
			Rewriter: rw,
			Title:    title,
			Password: e.Password(copied.ID),
			Secret:   Derive(e.Secret, "words", copied.ID),
		},
	}
	if copied.Scrubbed {
		tr.Scrub = e.Scrubber(st, origin)
	}
	return tr, nil
}
