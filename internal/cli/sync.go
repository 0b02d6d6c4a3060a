package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/op/carry"
	"alibi/internal/site"
)

func (a *app) sync() *cobra.Command {
	var g going
	var to, undo string
	var w carry.Wish
	var take []string
	cmd := &cobra.Command{
		Use:   "sync COPY [ITEM...] --to live|copy",
		Short: "Carry changes from a copy home to its live site, or the other way",
		Long: `Carry what changed on one side of a copy and its origin to the other, item by item, as alibi drift names
them. An item brings what it needs: its picture, its groups, its author. What nobody changed stays to the byte,
addresses become the other side's own, and where both sides gave one number to two things the copy's gets
another one and all that refers to it follows.

All rows are written in one transaction, in which each is looked at once more: an item that somebody changed
meanwhile is left, and named. What both sides changed waits until --take says which is to stand. A restore
point of a live site is taken first. --undo brings back what a run changed, and keeps what others wrote since.`,
		Args:              args(cobra.ArbitraryArgs),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: func(c *cobra.Command, rest []string) error {
			if undo != "" {
				return a.with(func(ctx context.Context, d *desk.Desk, _ []string) error {
					p, err := d.Copies.PlanUnsync(ctx, undo)
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
				w.To, w.Items = carry.Side(to), items
				if err := check(&w, take); err != nil {
					return usageError{err}
				}
				p, err := d.Copies.PlanSync(ctx, s.ID, w)
				if err != nil {
					return err
				}
				return a.goOn(ctx, d, p, g)
			})(c, rest)
		},
	}
	f := cmd.Flags()
	f.StringVar(&to, "to", "", "which side is written to: live or copy")
	f.BoolVar(&w.All, "all", false, "all that changed on the other side")
	f.StringSliceVar(&w.Kinds, "kind", nil, "all of a kind that changed there: page, media, setting")
	f.StringSliceVar(&take, "take", nil, "of an item that both sides changed, which is to stand: post:12=copy, "+
		"post:12=live")
	f.StringVar(&w.Note, "note", "", "what it is for, for the history")
	f.StringVar(&undo, "undo", "", "a run that carried changes, to be undone")
	g.add(cmd)
	return cmd
}

// check reads the sides of a wish.
func check(w *carry.Wish, take []string) error {
	if w.To != carry.Live && w.To != carry.Copy {
		return fmt.Errorf("say which side is written to: --to live or --to copy")
	}
	if len(w.Items)+len(w.Kinds) == 0 && !w.All {
		return fmt.Errorf("say what is to be carried: items as alibi drift names them, --kind, or --all")
	}
	w.Take = map[string]carry.Side{}
	for _, t := range take {
		item, side, _ := strings.Cut(t, "=")
		if s := carry.Side(side); s != carry.Live && s != carry.Copy || item == "" {
			return fmt.Errorf("%q: write --take ITEM=live or --take ITEM=copy", t)
		}
		w.Take[item] = carry.Side(side)
	}
	return nil
}
