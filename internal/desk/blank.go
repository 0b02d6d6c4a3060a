package desk

import (
	"cmp"
	"context"
	"errors"
	"time"

	"alibi/internal/op"
	"alibi/internal/op/blank"
	"alibi/internal/pins"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack/wordpress"
)

// BlankWish is what a person wants of a site that is a copy of nothing.
type BlankWish struct {
	Name, Purpose, Title string
	Core                 string // version; "": what the pin sheet says, or the newest
	PHP                  string // series; "": what the pin sheet says, or the newest here
	Admin, Mail          string
	Password             string // "": only keys sign in
	Pins                 string
	Lease                time.Duration
	Hold                 string
}

// PlanBlank says what making a blank site will do. Its core is fetched for it.
func (d *Copies) PlanBlank(
	ctx context.Context,
	w BlankWish,
	tell func(what string, done, total int64),
) (plan.Plan, error) {
	in := blank.Input{
		Stack:   wordpress.Stack{},
		Name:    w.Name,
		Purpose: w.Purpose,
		Local:   d.config.Machine,
		Folder:  d.home() + "/copies",
		Have:    d.series(),
		Quiet:   site.QuietRules,
		Port:    d.env.Port,
		Grace:   d.env.Grace,
		Now:     d.now(),
		By:      d.who,
		Choices: blank.Choices{
			Title: cmp.Or(w.Title, w.Name),
			Admin: cmp.Or(w.Admin, "keeper"),
			Mail:  cmp.Or(w.Mail, "keeper@"+w.Name+".localhost.example"),
			Pins:  w.Pins,
			Lease: w.Lease,
			Hold:  w.Hold,
		},
	}
	all, err := d.record.Sites(ctx)
	if err != nil {
		return plan.Plan{}, err
	}
	in.Taken = nameTaken(all)
	core := site.Source{Kind: site.Core}
	if core.Version, err = d.namedCore(ctx, w.Core); err != nil {
		return plan.Plan{}, err
	}
	in.PHP = w.PHP
	if w.Pins != "" {
		if core, err = d.fromSheet(ctx, w, core, &in); err != nil {
			return plan.Plan{}, err
		}
	}
	if in.PHP == "" && len(in.Have) > 0 {
		in.PHP = in.Have[0]
	}
	if in.Choices.Core, err = d.fetch(ctx, core, func(done, total int64) {
		if tell != nil {
			tell(core.Text(), done, total)
		}
	}); err != nil {
		return plan.Plan{}, err
	}
	if w.Password != "" {
		if in.Choices.Hash, err = accountHash(w.Password); err != nil {
			return plan.Plan{}, err
		}
	}
	in.Server = d.serverAddress()
	m, err := d.host(ctx, d.config.Machine)
	if err != nil {
		return plan.Plan{}, err
	}
	if in.Free, err = m.Free(ctx, d.home()); err != nil {
		return plan.Plan{}, err
	}
	if in.Server == "" {
		return blank.Plan(in), op.ErrNoServer
	}
	return blank.Plan(in), nil
}

// fromSheet takes what a pin sheet says of a blank site, and gives its core.
func (d *core) fromSheet(ctx context.Context, w BlankWish, is site.Source, in *blank.Input) (site.Source, error) {
	p, err := d.pins.PinSheet(w.Pins)
	if err != nil {
		return is, err
	}
	if p.Sheet.Core.Network != nil && *p.Sheet.Core.Network {
		return is, errors.New("the sheet is for a network, and a blank site is a single one: copy a network instead")
	}
	if w.Core == "" && p.Sheet.Core.Version != "" {
		if is, err = d.chooseCore(ctx, p.Sheet); err != nil {
			return is, err
		}
	}
	k, err := d.pinned()
	if err != nil {
		return is, err
	}
	in.Runtime, in.Settings = k[w.Pins].Runtime, k[w.Pins].Settings
	in.PHP = cmp.Or(w.PHP, in.Runtime.PHP)
	if q := k[w.Pins].Quiet; q != nil {
		in.Quiet = q
	}
	return is, nil
}

// namedCore gives the version of the core that a person means: by number, by its
// beginning (6.1), by a range, or the newest, which is "".
func (d *core) namedCore(ctx context.Context, text string) (string, error) {
	if text == "" || text == "newest" {
		return "", nil
	}
	all, err := d.cores(ctx)
	if err != nil {
		return "", err
	}
	r := text
	if pins.Exact(text) {
		r = text + ".*"
	}
	if v, ok := releaseOr(text, r, all); ok {
		return v, nil
	}
	return text, nil // the catalogue says that it has none
}
