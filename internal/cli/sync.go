package cli

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/merge"
	"alibi/internal/op/carry"
	"alibi/internal/site"
)

// syncFlags are what alibi sync is told.
type syncFlags struct {
	w                       carry.Wish
	to, undo, profile, save string
	with                    string
	take, byHand            []string
}

func (x *syncFlags) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&x.to, "to", "", "which side is written to: live, copy or both, or one of the two by its name")
	f.StringVar(&x.with, "with", "", withHelp)
	f.BoolVar(&x.w.All, "all", false, "all that changed on the other side")
	f.StringSliceVar(&x.w.Kinds, "kind", nil, "all of a kind that changed there: page, media, setting")
	f.StringVar(&x.w.Find, "find", "", "all that changed there and has this in its name or title")
	f.BoolVar(&x.w.Whole, "whole", false, "carry all of it or nothing: where something can't be, nothing is written")
	f.StringSliceVar(&x.w.But, "but", nil, "of all, or of a kind, what is not carried: an item or a kind")
	f.StringVar(&x.w.SubSite, "sub-site", "", "of a network: what is of one sub-site, by its number")
	f.StringVar(&x.profile, "profile", "", "carry what was stored under a name")
	f.StringVar(&x.save, "save", "", "store what is carried and to which side, under a name")
	f.StringSliceVar(&x.take, "take", nil, "of an item that both sides changed, which is to stand: post:12=copy, "+
		"post:12=live, or post:12=both: the copy's stays beside it as a draft")
	f.StringSliceVar(&x.byHand, "by-hand", nil, "of such an item, write what is to stand in $EDITOR")
	f.StringVar(&x.w.Note, "note", "", "what it is for, for the history")
	f.StringVar(&x.undo, "undo", "", "a run that carried changes, to be undone")
}

func (a *app) sync() *cobra.Command {
	var g going
	var x syncFlags
	cmd := &cobra.Command{
		Use:   "sync COPY [ITEM...] --to live|copy|both",
		Short: "Carry changes from a copy home to its live site, or the other way",
		Long: `Carry what changed on one side of a copy and its origin to the other, item by item, as alibi drift names
them. An item brings what it needs: its picture, its groups, its author. What nobody changed stays to the byte,
addresses become the other side's own, and where both sides gave one number to two things the copy's gets
another one and all that refers to it follows.

All rows are written in one transaction, in which each is looked at once more: an item that somebody changed
meanwhile is left, and named. What both sides changed in different places comes together; where they changed one
place, --take says which is to stand, and --by-hand opens all versions in $EDITOR. A restore point of a live site
is taken first. With --to both, one run carries home and then brings to the copy what it has not: all of it, or
nothing on either side. --undo brings back what a run changed, and keeps what others wrote since.
With --with, another copy of the same origin is the other side, and both are called by their names.`,
		Args:              args(cobra.ArbitraryArgs),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: func(c *cobra.Command, rest []string) error {
			if x.undo != "" {
				return a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
					p, err := d.Copies.PlanUnsync(ctx, x.undo)
					if err != nil {
						return err
					}
					return a.goOn(ctx, d, p, g)
				})(c, nil)
			}
			if len(rest) == 0 {
				return usageError{fmt.Errorf("name a copy, or a run with --undo")}
			}
			return a.withSite(func(ctx context.Context, d *desk.Desk, s site.Site, items []string) error {
				x.w.Items = items
				names, err := a.pairOf(ctx, d, s, x.with)
				if err != nil {
					return err
				}
				x.w.With = names.with
				to, err := profiled(d, x.profile, x.save, x.to, &x.w)
				if err != nil {
					return err
				}
				if err := check(&x.w, names, to, x.take); err != nil {
					return usageError{err}
				}
				if x.w.Hand, err = a.byHand(ctx, d, s, x.w.With, x.byHand); err != nil {
					return err
				}
				var then []carry.Wish
				if to == both {
					x.w.To, then = carry.Live, []carry.Wish{x.w}
				}
				p, err := d.Copies.PlanSync(ctx, s.ID, x.w, then...)
				if err != nil {
					return err
				}
				return a.goOn(ctx, d, p, g)
			})(c, rest)
		},
	}
	x.flags(cmd)
	g.add(cmd)
	return cmd
}

// profiled adds what was stored under a name to a wish, and stores a wish; it gives the side that is written to.
func profiled(d *desk.Desk, name, save, to string, w *carry.Wish) (string, error) {
	if name != "" {
		p, err := d.Copies.Profile(name)
		if err != nil {
			return "", err
		}
		w.Items, w.Kinds, w.But = append(w.Items, p.Items...), append(w.Kinds, p.Kinds...), append(w.But, p.But...)
		w.All, to, w.SubSite = w.All || p.All, cmp.Or(to, p.To), cmp.Or(w.SubSite, p.Sub)
		w.Find = cmp.Or(w.Find, p.Find)
	}
	if save == "" {
		return to, nil
	}
	return to, d.Copies.StoreProfile(save, carry.Profile{To: to, All: w.All, Kinds: w.Kinds, Items: w.Items, But: w.But,
		Sub: w.SubSite, Find: w.Find})
}

// byHand has a person write what is to stand where both sides changed one place of an item.
func (a *app) byHand(ctx context.Context, d *desk.Desk, s site.Site, with site.ID, items []string,
) (map[string]map[string]string, error) {
	out := map[string]map[string]string{}
	for _, item := range items {
		list, err := d.Copies.Conflicts(ctx, s.ID, with, item)
		if err != nil {
			return nil, err
		}
		out[item] = map[string]string{}
		for _, c := range list {
			file := strings.NewReplacer(":", "-", "/", "-").Replace(item+" "+c.Field) + ".txt"
			text, err := a.edited(ctx, file, []byte(c.Text))
			if err == nil && merge.HasMarks(string(text)) {
				err = fmt.Errorf("%s of %s: %w; nothing was changed", c.Field, item, carry.ErrMarks)
			}
			if err != nil {
				return nil, err
			}
			out[item][c.Place] = string(text)
		}
	}
	return out, nil
}

// both sides are written to.
const both = string(carry.Both)

// withHelp says what two copies are compared with.
const withHelp = "another copy of the same origin, in place of that"

// pairNames are what the sides of a pair are called.
type pairNames struct {
	live, copied string
	with         site.ID // the other one of two copies; "": the origin
}

// pairOf gives those of a copy and its origin, or another copy of that.
func (a *app) pairOf(ctx context.Context, d *desk.Desk, s site.Site, with string) (n pairNames, err error) {
	if with == "" {
		origin, err := d.Fleet.Site(ctx, s.Origin)
		if err != nil && s.Origin != "" {
			return n, err
		}
		return pairNames{live: origin.Name, copied: s.Name}, nil
	}
	other, err := d.Fleet.Find(ctx, with)
	if err != nil {
		return n, err
	}
	if other.ID == s.ID || other.ID == s.Origin {
		return n, usageError{fmt.Errorf("--with %s: name another copy of the origin of %s", with, s.Name)}
	}
	first, second := carry.InOrder(s, other)
	return pairNames{first.Name, second.Name, other.ID}, nil
}

// side is the one that a text names.
func (n pairNames) side(text string) (carry.Side, bool) {
	switch {
	case text == n.live, n.with == "" && text == string(carry.Live):
		return carry.Live, true
	case text == n.copied, n.with == "" && text == string(carry.Copy):
		return carry.Copy, true
	}
	return "", false
}

// words are how people name the sides.
func (n pairNames) words() [2]string {
	if n.with == "" {
		return [2]string{string(carry.Live), string(carry.Copy)}
	}
	return [2]string{n.live, n.copied}
}

// check reads the side of a wish, and whose is to stand.
func check(w *carry.Wish, n pairNames, to string, take []string) error {
	var known bool
	words := n.words()
	if w.To, known = n.side(to); !known && to != both {
		return fmt.Errorf("say which side is written to: --to %s, --to %s or --to both", words[0], words[1])
	}
	if _, err := strconv.Atoi(cmp.Or(w.SubSite, "0")); err != nil {
		return fmt.Errorf("--sub-site %s: write the number of a sub-site, as in post:2/1", w.SubSite)
	}
	some := len(w.Items)+len(w.Kinds)+len(w.Find) > 0
	w.All = w.All || w.SubSite != "" && !some
	if !some && !w.All {
		return fmt.Errorf("say what is to be carried: items as alibi drift names them, --kind, --find, --sub-site, or " +
			"--all")
	}
	w.Take = map[string]carry.Side{}
	for _, t := range take {
		item, side, _ := strings.Cut(t, "=")
		if w.Take[item], known = n.side(side); side == both {
			w.Take[item], known = carry.Both, true
		}
		if !known || item == "" {
			return fmt.Errorf("%q: write --take ITEM=%s, --take ITEM=%s or --take ITEM=both", t, words[0], words[1])
		}
	}
	return nil
}
