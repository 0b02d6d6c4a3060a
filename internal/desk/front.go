package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/bcrypt"

	"alibi/internal/site"
)

// front finds a site before whose visitors something may be put or taken away.
// The name of a live one must be typed.
func (d *core) front(ctx context.Context, id site.ID, typed string) (site.Site, error) {
	s, err := d.record.Site(ctx, id)
	switch {
	case err != nil:
		return s, err
	case s.Run != "":
		return s, fmt.Errorf("a run (%s) is at work on %s; wait for it or cancel it", s.Run, s.Name)
	case s.State != site.Ready && s.State != site.Parked:
		return s, fmt.Errorf("%s is %s: visitors don't see it", s.Name, s.State)
	case s.Role == site.Live && typed != s.Name:
		return s, fmt.Errorf("%w: visitors of the live site %s would see it at once; its name must be typed: %s",
			ErrNotTyped, s.Name, s.Name)
	}
	return s, nil
}

// Park takes a site off the air behind a notice with a contact, without deleting
// anything. "" takes the contact from the configuration.
func (d *Copies) Park(ctx context.Context, id site.ID, text, contact, typed string) (site.Site, error) {
	return d.shut(
		ctx,
		id,
		typed,
		site.Front{
			Kind:    site.FrontParked,
			Text:    strings.TrimSpace(text),
			Contact: cmp.Or(strings.TrimSpace(contact), d.config.Front.Contact),
		},
		"parked",
	)
}

// Maintain shows visitors that a site is being worked on.
func (d *Copies) Maintain(ctx context.Context, id site.ID, text, typed string) (site.Site, error) {
	return d.shut(ctx, id, typed, site.Front{Kind: site.FrontMaintenance, Text: strings.TrimSpace(text)},
		"put into maintenance")
}

// Hide has a copy ask its visitors for a password.
func (d *Copies) Hide(ctx context.Context, id site.ID, password string) (site.Site, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return s, err
	}
	if s.Role == site.Live {
		return s, fmt.Errorf("%s is a live site: a password before it is set in its web server; park it, or put it "+
			"into maintenance", s.Name)
	}
	if len(password) < 4 {
		return s, errors.New("the password is too short: at least 4 characters")
	}
	word, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
	if err != nil {
		return s, fmt.Errorf("the password: %w", err)
	}
	return d.shut(ctx, id, "", site.Front{Kind: site.FrontHidden, Word: word}, "hidden behind a password")
}

func (d *core) shut(ctx context.Context, id site.ID, typed string, f site.Front, words string) (site.Site, error) {
	s, err := d.front(ctx, id, typed)
	if err != nil {
		return s, err
	}
	f.At, f.By = d.now(), d.who
	err = d.queue.Alone(ctx, s, func(claim string) error {
		if s.Front != nil {
			if err := d.env.Lift(ctx, claim, s); err != nil {
				return err
			}
		}
		return d.env.Shut(ctx, claim, s, f)
	})
	if err != nil {
		return s, err
	}
	if s, err = d.record.Site(ctx, id); err != nil {
		return s, err
	}
	return s, d.log(ctx, id, string(f.Kind), "%s", words)
}

// Lift shows visitors the site again.
func (d *Copies) Lift(ctx context.Context, id site.ID, typed string) (site.Site, error) {
	s, err := d.front(ctx, id, typed)
	if err != nil {
		return s, err
	}
	if s.Front == nil && s.State != site.Parked {
		return s, fmt.Errorf("visitors see %s as it is: there is nothing to lift", s.Name)
	}
	if err := d.queue.Alone(ctx, s, func(claim string) error { return d.env.Lift(ctx, claim, s) }); err != nil {
		return s, err
	}
	if s, err = d.record.Site(ctx, id); err != nil {
		return s, err
	}
	return s, d.log(ctx, id, "lift", "visitors see it again")
}
