package carry

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"alibi/internal/drift"
	"alibi/internal/op"
	"alibi/internal/site"
)

// Decision is whose version of an item was to stand that both sides had changed. It holds for as long as both have what
// it was made of.
type Decision struct {
	Side Side      `json:"side"`
	Saw  string    `json:"saw"` // a digest of what both sides had
	At   time.Time `json:"at"`
}

// decisionsFile is where those of a copy are kept.
func decisionsFile(env *op.Env, copied site.Site) string {
	return filepath.Join(env.CopyDir(copied.Name), "decided.json")
}

// decisions are those that people made of a copy, by item. What can't be read is decided again.
func decisions(env *op.Env, copied site.Site) map[string]Decision {
	out := map[string]Decision{}
	if text, err := os.ReadFile(decisionsFile(env, copied)); err == nil {
		_ = json.Unmarshal(text, &out)
	}
	return out
}

// keepDecisions keeps decisions beside those that were made before.
func keepDecisions(env *op.Env, copied site.Site, made map[string]Decision) error {
	if len(made) == 0 {
		return nil
	}
	all := decisions(env, copied)
	for item, d := range made {
		all[item] = d
	}
	text, err := json.Marshal(all)
	if err != nil {
		return err
	}
	if err := putFile(decisionsFile(env, copied), text); err != nil {
		return fmt.Errorf("keeping what was decided: %w", err)
	}
	return nil
}

// remind tells of items that people have to decide what was decided of them before.
func (s *Sides) remind(items []*drift.Item) {
	was := decisions(s.env, s.CopySite)
	for _, it := range items {
		if d, is := was[it.Name]; is && it.Clashes() && !it.Merges && s.saw(it) == d.Saw {
			it.Decided, it.DecidedAt = string(d.Side), d.At
		}
	}
}

// decided gives whose version is to stand by what is wished, or was decided before, and what is decided now. Where both
// are, the live site's stands and drafts has the item.
func (s *Sides) decided(items []*drift.Item, w Wish, at time.Time) (take map[string]Side, made map[string]Decision,
	drafts []*drift.Item, err error) {
	take, made = map[string]Side{}, map[string]Decision{}
	for _, it := range items {
		side, said := w.Take[it.Name]
		if side == Both {
			if !it.KeepsBoth {
				return nil, nil, nil, fmt.Errorf("%s can't be kept as a draft: say which is to stand (--take)", it.Name)
			}
			side, drafts = Live, append(drafts, it)
		}
		switch {
		case said:
			take[it.Name] = side
			if it.Clashes() && !it.Merges {
				made[it.Name] = Decision{side, s.saw(it), at}
			}
		case it.Decided != "" && w.Hand[it.Name] == nil:
			take[it.Name] = Side(it.Decided)
		}
	}
	return take, made, drafts, nil
}
