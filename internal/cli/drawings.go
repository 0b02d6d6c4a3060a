package cli

import (
	"slices"
	"strings"
	"time"

	"alibi/internal/desk"
	"alibi/internal/draw"
	"alibi/internal/op/trial"
	"alibi/internal/plan"
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
