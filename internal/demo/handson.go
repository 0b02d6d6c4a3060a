package demo

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"time"

	"alibi/internal/desk"
	"alibi/internal/op"
	"alibi/internal/op/trial"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// worked is what somebody did on a copy by hand: components changed, a file
// edited, something noted; and what its logs say.
func worked(ctx context.Context, w *World, d *desk.Desk, s site.Site) error {
	var wish desk.ChangeWish
	for _, name := range []string{"tide-table@2.5.0", "harbour-bell@1.0"} {
		src, err := site.ParseSource(site.Plugin, name)
		if err != nil {
			return err
		}
		wish.Put = append(wish.Put, src)
	}
	p, err := d.Components.PlanChange(ctx, s.ID, wish, nil)
	if err == nil {
		err = w.carried(ctx, d, p)
	}
	if err != nil {
		return err
	}
	style := "wp-content/themes/harbour/style.css"
	text, err := d.Hands.FileText(ctx, s.ID, style)
	if err != nil {
		return err
	}
	if p, err = d.Hands.PlanEdit(ctx, s.ID, style, []byte(strings.Replace(string(text), "#0b5c76", "#12507a", 1)+
		".timetable td { padding: 2px 8px }\n"), false); err == nil {
		err = w.carried(ctx, d, p)
	}
	if err != nil {
		return err
	}
	if err := d.Hands.NoteDeed(ctx, s.ID, "moved Timetable to the front of the menu"); err != nil {
		return err
	}
	return logged(s, w.Now())
}

// logged puts into a copy's logs what a copy that runs has there.
func logged(s site.Site, now time.Time) error {
	dir := op.Logs(s)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	at := func(ago time.Duration) string { return now.Add(-ago).UTC().Format("02-Jan-2006 15:04:05") }
	file := s.Root + "/wp-content/plugins/"
	errors := "[" + at(50*time.Minute) +
		" UTC] PHP Deprecated:  Automatic conversion of false to array is deprecated in " + file +
		"quay-visits/quay-visits.php on line 41\n" +
		"[" + at(44*time.Minute) + " UTC] PHP Warning:  Undefined array key \"quay\" in " + file +
		"tide-table/tide-table.php on line 88\n" +
		"[" + at(43*time.Minute) +
		" UTC] PHP Fatal error:  Uncaught TypeError: tide_rows(): Argument #1 ($day) must be of type string, null " +
		"given, called in " + file + "tide-table/tide-table.php:97\n" +
		"Stack trace:\n#0 " + file + "tide-table/tide-table.php(97): tide_rows(NULL)\n#1 " + s.Root +
		"/wp-includes/shortcodes.php(356): tide_table_shortcode(Array, '', 'tides')\n#2 {main}\n  thrown in " + file +
		"tide-table/tide-table.php on line 61\n" +
		"[" + at(12*time.Minute) + " UTC] PHP Warning:  Undefined array key \"quay\" in " + file +
		"tide-table/tide-table.php on line 88\n"
	if err := os.WriteFile(filepath.Join(dir, op.ErrorLog), []byte(errors), 0o600); err != nil {
		return err
	}
	var b strings.Builder
	for i, x := range []struct{ path, status string }{{"/", "200 18431"}, {"/page-1/", "200 12206"},
		{"/wp-content/themes/harbour/style.css", "200 142"}, {"/tides/", "500 2712"}, {"/page-9/", "404 9120"},
		{"/wp-admin/", "302 0"}, {"/", "200 18431"}} {
		b.WriteString(
			"127.0.0.1 - - [" + now.Add(-time.Duration(50-i*6)*time.Minute).Format("02/Jan/2006:15:04:05 -0700") +
				"] \"GET " + x.path + " HTTP/1.1\" " + x.status + " \"-\" \"Mozilla/5.0\"\n",
		)
	}
	return os.WriteFile(filepath.Join(dir, op.AccessLog), []byte(b.String()), 0o600)
}

// pinned stores two pin sheets: one of a live site, and one that asks for what it
// does not run yet.
func pinned(ctx context.Context, d *desk.Desk) error {
	s, err := d.Fleet.Find(ctx, "skerryline.example")
	if err != nil {
		return err
	}
	src, err := d.Pins.PinsOf(ctx, s.ID)
	if err != nil {
		return err
	}
	if _, err := d.Pins.SavePins("as-live", src, true); err != nil {
		return err
	}
	if _, err := d.Pins.SavePins(
		"next-spring",
		[]byte("# What the sites are to run from April on.\nabout = \"what is to run from April on\"\nothers = "+
			"\"leave\"\n\n[core]\nversion = \"6.8.*\"\n\n[runtime]\nphp = \"8.4\" # as drydock has "+
			"it\n\n[plugins]\ntide-table = \">=2.5 <3\"\nbell-mailer = \"newest\"\nold-slider = { state = \"off\" } "+
			"# nobody looks at it\n"), true,
	); err != nil {
		return err
	}
	for name, sheet := range map[string]string{"timetable-2028": "next-spring", "winter-prices": "as-live"} {
		c, err := d.Fleet.Find(ctx, name)
		if err != nil {
			return err
		}
		if _, err := d.Workings().Record.ChangeSite(ctx, c.ID,
			func(s *site.Site) error { s.Pins = sheet; return nil }); err != nil {
			return err
		}
	}
	return nil
}

// triedOut records a trial as one ran on the real programs: the demo has no PHP on
// which cells could run.
func triedOut(ctx context.Context, d *desk.Desk, now time.Time) error {
	s, err := d.Fleet.Find(ctx, "timetable-2028")
	if err != nil {
		return err
	}
	m := trial.Memory{
		Full: 34 << 20, AsItIs: &trial.Cell{Core: "6.1.1", PHP: "8.2", State: trial.Passes, Pages: 17,
			Took: 3100 * time.Millisecond},
	}
	clash := "wp-content/plugins/tide-table/tide-table.php, line 61: tide_rows(): Argument #1 ($day) must be of " +
		"type string, null given"
	for _, core := range []string{"5.7.11", "6.1.1", "6.8.1"} {
		for _, php := range []string{"7.4", "8.2", "8.4"} {
			c := trial.Cell{Name: "core " + core + ", PHP " + php, Core: core, PHP: php, State: trial.Passes, Pages: 17,
				Bytes: 1 << 20, Took: time.Duration(2600+len(core)*100) * time.Millisecond}
			switch {
			case core == "5.7.11" && php == "7.4":
				c.State, c.Reason = trial.Fails, "the first page is empty: the theme that is on is made of blocks, "+
					"which that core does not know"
			case core == "5.7.11":
				c.State, c.Reason = trial.Fails, "Undefined constant \"WP_CORE_UPDATE\" in "+
					"wp-admin/includes/update.php, line 43"
			case core == "6.8.1":
				c.Bytes = 2 << 20
				if php == "8.4" {
					c.State, c.Reason = trial.Fails, clash
				} else if php == "7.4" {
					c.Warnings = 2
				}
			}
			m.Cells = append(m.Cells, c)
		}
	}
	began := now.Add(-26 * time.Hour)
	detail, err := json.Marshal(trial.Choices{Runtimes: []string{"7.4", "8.2", "8.4"}, AtOnce: 2})
	if err != nil {
		return err
	}
	target := s
	target.Facts = nil
	r := plan.Run{ID: "trial-" + string(s.ID[:6]), State: plan.Done, Made: began, Began: began,
		Ended: began.Add(21 * time.Second), Result: "5 of 9 variants pass",
		Plan: plan.Plan{Kind: plan.Trial, At: began, Origin: target, Target: target, Words: "3 cores, 3 PHP versions",
			By: d.Who(), Detail: detail}}
	if err := d.Workings().Record.PutRun(ctx, r); err != nil {
		return err
	}
	return d.Workings().Record.SetCheckpoint(ctx, r.ID, m)
}
