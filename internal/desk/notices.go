package desk

import (
	"context"
	"fmt"
	"strings"

	"alibi/internal/notify"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// ended tells of a run that is over: of a move, or of one that took as long as the settings say. What could not be told
// is in the history of its site.
func (d *core) ended(ctx context.Context, r plan.Run) {
	s := d.config.Notices
	least, _ := s.Least() // it was checked when it was read
	took := r.Took(d.now())
	moves := r.Plan.Kind.Moves()
	if s.None() || !moves && (least == 0 || took < least) {
		return
	}
	about := r.Plan.Origin
	if about.Name == "" {
		about = r.Plan.Target
	}
	n := notify.Notice{At: d.now(), Run: r.ID, What: string(r.Plan.Kind), State: string(r.State), Site: about.Name}
	if all, err := d.record.Moves(ctx); err == nil && moves {
		for _, m := range all {
			if m.Site == about.ID {
				n.Move = m.Name
			}
		}
	}
	n.Subject = fmt.Sprintf("%s: %s %s after %s", about.Name, n.What, n.State, site.Seconds(took))
	text := []string{r.Plan.Kind.Title() + " of " + about.Name, n.State + " after " + site.Seconds(took)}
	for _, more := range []string{r.Result, r.Error, r.Remedy} {
		if more != "" {
			text = append(text, more)
		}
	}
	n.Text = strings.Join(append(text, "", "alibi runs show "+r.ID), "\n")
	d.tell(ctx, about.ID, n)
}

// gate tells of a gate of a move that no run goes through.
func (d *core) gate(ctx context.Context, m plan.Move, what, text string) {
	s, err := d.record.Site(ctx, m.Site)
	if err != nil || d.config.Notices.None() {
		return
	}
	d.tell(ctx, s.ID, notify.Notice{At: d.now(), What: what, State: string(plan.Done), Site: s.Name, Move: m.Name,
		Subject: s.Name + ": " + what, Text: text + "\n\nalibi move " + m.Name + " show"})
}

func (d *core) tell(ctx context.Context, id site.ID, n notify.Notice) {
	if err := d.noticed().Tell(ctx, n); err != nil {
		d.logger.Error("telling", "what", n.What, "err", err)
		_ = d.log(ctx, id, "notice", "nobody was told of %s: %v", n.Subject, err) // the log has it too
	}
}

// noticed are who is told, with what they need.
func (d *core) noticed() notify.Settings {
	s := d.config.Notices
	s.Read = d.safe().Read
	return s
}

// TryNotice tells who is to be told that telling them works.
func (d *Runs) TryNotice(ctx context.Context) (notify.Settings, error) {
	s := d.noticed()
	if s.None() {
		return s, fmt.Errorf("nobody is told of anything: name mail addresses or a command under [notices] in config.toml")
	}
	return s, s.Tell(ctx, notify.Notice{At: d.now(), What: "trial", State: string(plan.Done),
		Subject: "Alibi on " + d.config.Machine + " can tell you",
		Text:    "This is what a notice looks like. It was sent because somebody asked for it: alibi notices try"})
}
