package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"alibi/internal/desk"
	"alibi/internal/draw"
	"alibi/internal/op/carry"
	"alibi/internal/op/trial"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// versionGrid is what sites run, as a drawing.
func versionGrid(g desk.PinGrid, now time.Time) draw.Drawing {
	out := draw.Grid{Title: "What the sites run, " + now.Local().Format("2 January 2006"), Columns: g.Names}
	for _, r := range g.Rows {
		row := draw.Row{Name: strings.TrimPrefix(r.Kind+" "+r.Slug, r.Slug+" ")}
		for _, c := range r.Cells {
			row.Cells = append(row.Cells, draw.Cell{Text: c.Version, Tone: tone(c)})
		}
		out.Rows = append(out.Rows, row)
	}
	out.Legend = []draw.Cell{
		{Text: "as its pin sheet says", Tone: draw.Good},
		{Text: "no sheet says", Tone: draw.Plain},
		{Text: "unlike its origin, or a newer one waits", Tone: draw.Mild},
		{Text: "off its pin, or not met", Tone: draw.Bad},
	}
	return out
}

func tone(c desk.PinCell) draw.Tone {
	has := func(m string) bool { return slices.Contains(c.Marks, m) }
	switch {
	case c.Version == "":
		return draw.None
	case has(desk.MarkUnpinned) || has(desk.MarkUnmet):
		return draw.Bad
	case has(desk.MarkUnlike) || has(desk.MarkOutdated):
		return draw.Mild
	case has(desk.MarkPinned):
		return draw.Good
	}
	return draw.Plain
}

// trialGrid is the verdicts of a trial, as a drawing.
func trialGrid(r plan.Run, m trial.Memory) draw.Drawing {
	out := draw.Grid{Title: "Trial of " + r.Plan.Target.Name + ", " + r.Made.Local().Format("2 January 2006 15:04")}
	cells := append(slices.Clone(m.Cells), m.Tries...)
	at := map[string]int{}
	for _, c := range cells {
		if !slices.Contains(out.Columns, "PHP "+c.PHP) {
			out.Columns = append(out.Columns, "PHP "+c.PHP)
		}
		name := "core " + c.Core
		if c.Set != "" {
			name += ", " + c.Set
		}
		if _, ok := at[name]; !ok {
			at[name] = len(out.Rows)
			out.Rows = append(out.Rows, draw.Row{Name: name})
		}
		row := &out.Rows[at[name]]
		for len(row.Cells) < len(out.Columns) {
			row.Cells = append(row.Cells, draw.Cell{})
		}
		t := map[trial.State]draw.Tone{trial.Passes: draw.Good, trial.Fails: draw.Bad}[c.State]
		row.Cells[slices.Index(out.Columns, "PHP "+c.PHP)] = draw.Cell{Text: string(c.State), Tone: max(t, draw.Plain)}
		if c.Reason != "" {
			out.Notes = append(out.Notes, name+" on PHP "+c.PHP+": "+c.Reason)
		}
	}
	return out
}

// fileSays is what all drawings say of their file.
const fileSays = ". The file's name ends with .svg or .pdf and says which; nothing is written over."

// drawn writes a drawing to a file.
func (a *app) drawn(g draw.Drawing, file string) error {
	text, err := g.As(strings.TrimPrefix(filepath.Ext(file), "."))
	if err != nil {
		return usageError{err}
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return fmt.Errorf("writing the drawing: %w", err)
	}
	_, err = f.Write(text)
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	return a.print(map[string]any{"file": file, "bytes": len(text)}, func(w io.Writer) { fmt.Fprintln(w, file) })
}

func (a *app) drawDrift() *cobra.Command {
	const short = "Draw how much a copy and its origin differed, whenever somebody looked"
	return &cobra.Command{
		Use:               "drift COPY FILE",
		Short:             short,
		Long:              short + " (alibi drift, and the screen)" + fileSays,
		Args:              args(cobra.ExactArgs(2)),
		ValidArgsFunction: a.siteNames(isCopy),
		RunE: a.withSite(func(_ context.Context, d *desk.Desk, s site.Site, rest []string) error {
			list, err := d.Copies.Looks(s)
			if err != nil {
				return err
			}
			if len(list) == 0 {
				return fmt.Errorf("nobody has looked yet what became of %s: alibi drift %s", s.Name, s.Name)
			}
			title := "What differs of " + s.Name + " and its origin, " + d.Now().Local().Format("2 January 2006")
			return a.drawn(draw.Drift(title, looks(list), d.Now()), rest[0])
		}),
	}
}

// looks are what was found, by the side that changed it. Since the sides parted nothing had been changed.
func looks(list []carry.Look) []draw.Series {
	out := []draw.Series{{Name: "changed on the copy"}, {Name: "changed on both"}, {Name: "changed on the live site"}}
	add := func(at time.Time, counts ...int) {
		for i, n := range counts {
			out[i].At, out[i].Value = append(out[i].At, at), append(out[i].Value, float64(n))
		}
	}
	var parted time.Time
	for _, l := range list {
		if !l.Parted.Equal(parted) {
			add(l.Parted, 0, 0, 0)
		}
		parted = l.Parted
		add(l.At, l.Copy, l.Both, l.Live)
	}
	return out
}
