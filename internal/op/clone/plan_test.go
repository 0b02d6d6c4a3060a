package clone_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack/wordpress"
	"alibi/internal/tree"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func input() clone.Input {
	a, _ := site.ParseAddress("https://skerryline.example")
	f := &site.Facts{
		Stack:      "wordpress",
		Title:      "Skerry Line",
		Core:       "6.1",
		PHP:        "8.2",
		Addresses:  []site.Address{a},
		Files:      100,
		Bytes:      50 << 20,
		Rows:       1000,
		TableBytes: 2 << 20,
		Tables:     []site.Table{{Name: "sk_posts", Rows: 1000}},
		Folders: []site.Folder{
			{Path: "wp-content/uploads", Files: 60, Bytes: 40 << 20},
			{Path: "wp-content/cache", Files: 30, Bytes: 8 << 20, Spare: "cache"},
			{Path: "wp-content/plugins", Files: 10, Bytes: 2 << 20},
		},
		Database: site.Database{Engine: "sqlite", Path: "/srv/s/wp-content/database/.ht.sqlite", Prefix: "sk_"},
	}
	o := site.Site{
		ID:        "o",
		Name:      "skerryline.example",
		Role:      site.Live,
		State:     site.Ready,
		Host:      "pier",
		Root:      "/srv/s",
		Stack:     "wordpress",
		Addresses: f.Addresses,
		Database:  f.Database,
		Facts:     f,
		Client:    "Skerry Line",
	}
	return clone.Input{
		Origin:  o,
		Choices: clone.Defaults(o, "", "slipway", func(string) bool { return false }),
		Taken:   func(n string) bool { return n == "taken" },
		Places: map[string]clone.Place{
			"slipway": {Folder: "/home/eng/alibi/copies", Free: 10 << 30, Server: "localhost"},
			"pier":    {NoServer: "none is known"},
			"drydock": {Folder: "/srv/copies", Server: "127.0.0.1:3307"},
		},
		Local: "slipway",
		Port:  "7700",
		Grace: 48 * time.Hour,
		Now:   noon,
		By:    "runa",
	}
}

func codes(p plan.Plan) map[string]site.Severity {
	m := map[string]site.Severity{}
	for _, f := range p.Findings {
		m[f.Code] = f.Severity
	}
	return m
}

func TestTheUsualPlan(t *testing.T) {
	p := clone.Plan(input())
	assert.False(t, p.Blocked(), "%v", p.Findings)
	assert.Empty(t, p.Findings)
	assert.Equal(t, plan.Copy, p.Kind)
	assert.Equal(t, "http://skerryline-copy.localhost:7700", p.Target.Address().String())
	assert.Equal(t, "/home/eng/alibi/copies/skerryline-copy/now/site/wp-content/database/.ht.sqlite",
		p.Target.Database.Path)
	assert.Equal(t, "[copy] Skerry Line", p.Target.Title)
	assert.Equal(t, noon.Add(clone.DefaultLease), p.Target.Lease.Ends)
	assert.Equal(t, 70, p.Files, "the cache is left out")
	assert.EqualValues(t, 42<<20, p.Bytes)
	require.Len(t, p.LeftOut, 1)
	assert.Equal(t, "wp-content/cache", p.LeftOut[0].What)
	assert.Equal(t, "nothing on the origin", p.Writes[0])
	assert.Equal(t, site.QuietRules, p.Target.Quiet)
	assert.Less(t, p.Estimate.Low, p.Estimate.High)
	assert.Equal(t, []string{"reserve", "files", "tables", "configure", "place", "open", "evidence", "settle",
		"values"}, names(p))
	assert.Equal(t, "https://www.skerryline.example", p.Rewrites[1].From, "with www too")
	filter, choices, err := clone.ChoicesOf(p)
	require.NoError(t, err)
	assert.Equal(t, "skerryline-copy", choices.Name)
	assert.Contains(t, filter.Folders, "wp-content/database/.ht.sqlite", "the database is not copied as a file")
}

func names(p plan.Plan) []string {
	var out []string
	for _, s := range p.Steps {
		out = append(out, s.Name)
	}
	return out
}

func TestChoicesHaveConsequences(t *testing.T) {
	in := input()
	in.Choices.Spare = true
	assert.Equal(t, 100, clone.Plan(in).Files)
	in.Choices.Skip = []string{"/wp-content/uploads/"}
	p := clone.Plan(in)
	assert.Equal(t, 40, p.Files)
	assert.EqualValues(t, 10<<20, p.Bytes)
	in.Choices.Larger = 10 << 20
	filter, _, err := clone.ChoicesOf(clone.Plan(in))
	require.NoError(t, err)
	assert.EqualValues(t, 10<<20, filter.Larger)
	in.Choices.Quiet = []site.Rule{site.QuietMail}
	p = clone.Plan(in)
	assert.Contains(t, codes(p), "quiet-payments")
	assert.NotContains(t, codes(p), "quiet-mail")
	in.Choices.Title = false
	p = clone.Plan(in)
	assert.Equal(t, site.Warn, codes(p)["title"], "a title that would mislead is told")
	assert.Equal(t, "Skerry Line", p.Target.Title)
	in.Choices.Lease, in.Choices.Hold = 0, "sign-off"
	p = clone.Plan(in)
	assert.True(t, p.Target.Lease.Held)
	assert.Equal(t, "sign-off", p.Target.Lease.Reason)
}

func TestWhatKeepsAPlanFromRunning(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*clone.Input)
		code   string
		text   string
	}{
		"no name":     {func(in *clone.Input) { in.Choices.Name = "" }, "name", "needs a name"},
		"name in use": {func(in *clone.Input) { in.Choices.Name = "taken" }, "name", "is in use"},
		"odd name":    {func(in *clone.Input) { in.Choices.Name = "Über Copy" }, "name", "can't be part of an address"},
		"disk": {func(in *clone.Input) { in.Places["slipway"] = clone.Place{Folder: "/c", Free: 1 << 20} }, "disk",
			"1.0 MiB are free"},
		"quota":        {func(in *clone.Input) { in.Quota.Copies = 2; in.Use.Copies = 2 }, "quota", "2 of 2 copies"},
		"quota, bytes": {func(in *clone.Input) { in.Quota.Bytes = 1 << 20 }, "quota", "the copies would take"},
		"another host": {func(in *clone.Input) { in.Choices.Host = "pier" }, "host", "can be made on this machine only"},
		"no folder": {func(in *clone.Input) {
			in.Choices.Host = "pier"
			in.Origin.Facts.Database = site.Database{Engine: "mysql", Name: "ferry"}
		}, "host", "no folder for copies is set on pier"},
		"no such host": {func(in *clone.Input) { in.Choices.Host = "moon" }, "host", "no host is called moon"},
		"no server": {func(in *clone.Input) {
			in.Origin.Facts.Database = site.Database{Engine: "mysql", Name: "ferry"}
			in.Places["slipway"] = clone.Place{Folder: "/c", NoServer: "none is known"}
		}, "server", "no database server for copies on slipway: none is known"},
		"hold": {func(in *clone.Input) { in.Choices.Lease = 0 }, "hold", "needs a reason"},
		"no wall": {func(in *clone.Input) {
			in.Origin.Facts.Database = site.Database{Engine: "mysql", Name: "ferry"}
			in.Places["slipway"] = clone.Place{Folder: "/c", Server: "localhost", Unsealed: "it has no namespaces",
				Closed: true}
		}, "unsealed", "its code would not run: it has no namespaces"},
		"engine": {func(in *clone.Input) {
			in.Origin.Facts.Findings = []site.Finding{{Severity: site.Block, Code: "engine", Text: "another engine"}}
		}, "engine", "another engine"},
	} {
		t.Run(name, func(t *testing.T) {
			in := input()
			c.change(&in)
			p := clone.Plan(in)
			assert.True(t, p.Blocked())
			require.NotEmpty(t, p.Findings)
			assert.Equal(t, c.code, p.Findings[0].Code, "the worst comes first")
			assert.Contains(t, p.Findings[0].Text, c.text)
		})
	}
}

func TestWhereThereIsNoWallThePlanWarns(t *testing.T) {
	in := input()
	in.Origin.Facts.Database = site.Database{Engine: "mysql", Name: "ferry"}
	in.Places["slipway"] = clone.Place{Folder: "/c", Server: "localhost"}
	p := clone.Plan(in)
	assert.NotContains(t, codes(p), "unsealed")
	assert.True(t, answersFirst(p))
	in.Places["slipway"] = clone.Place{Folder: "/c", Server: "localhost", Unsealed: "it has no namespaces"}
	p = clone.Plan(in)
	assert.Contains(t, codes(p), "unsealed")
	assert.False(t, p.Blocked())
	assert.False(t, answersFirst(p), "its code could do harm that its evidence finds")
}

// answersFirst tells whether a planned copy is opened before it is proven.
func answersFirst(p plan.Plan) bool {
	return slices.Index(names(p), "open") < slices.Index(names(p), "evidence")
}

func TestARefreshKeepsWhoTheCopyIs(t *testing.T) {
	in := input()
	over := site.Site{
		ID:     "c",
		Name:   "winter",
		Host:   "slipway",
		Role:   site.Copy,
		State:  site.Ready,
		Lease:  site.Begin(noon.Add(-time.Hour), 72*time.Hour, time.Hour),
		MadeAt: noon.Add(-time.Hour),
	}
	in.Over, in.Lost = &over, &site.Apart{Copy: 3}
	in.Taken = func(string) bool { return true }
	in.Quota, in.Use = site.Quota{Copies: 1}, site.Use{Copies: 1}
	p := clone.Plan(in)
	assert.Equal(t, plan.Refresh, p.Kind)
	assert.False(t, p.Blocked(), "neither its own name nor the quota is in the way: %v", p.Findings)
	assert.Equal(t, site.ID("c"), p.Target.ID)
	assert.Equal(t, over.Lease, p.Target.Lease)
	assert.Contains(t, codes(p), "lost")
	assert.Contains(t, p.Writes[1], "is replaced")
}

func TestEstimateLearns(t *testing.T) {
	in := input()
	first := clone.Plan(in)
	assert.Contains(t, first.Estimate.Basis, "usual rates")
	for range 3 {
		in.Past = append(in.Past, plan.Run{State: plan.Done, Plan: first, Began: noon,
			Ended: noon.Add(40 * time.Second)})
	}
	in.Past = append(in.Past, plan.Run{State: plan.Stopped, Plan: first, Began: noon, Ended: noon.Add(time.Hour)})
	p := clone.Plan(in)
	assert.Contains(t, p.Estimate.Basis, "3 earlier runs from pier")
	assert.InDelta(t, 34, p.Estimate.Low.Seconds(), 1)
	assert.InDelta(t, 50, p.Estimate.High.Seconds(), 1)
	in.Origin.Host = "drydock"
	assert.Contains(t, clone.Plan(in).Estimate.Basis, "usual rates", "another host is another story")
}

func TestALargeFileThatIsLeftOutIsNoFinding(t *testing.T) {
	in := input()
	in.Origin.Facts.Findings = []site.Finding{{Severity: site.Warn, Code: "large-file", Text: "1 file is larger"}}
	assert.Contains(t, codes(clone.Plan(in)), "large-file")
	in.Choices.Larger = 10 << 20
	assert.NotContains(t, codes(clone.Plan(in)), "large-file")
}

func TestACopyOnAServerGetsADatabaseOfItsOwn(t *testing.T) {
	in := input()
	in.Origin.Facts.Database = site.Database{
		Engine: "mysql",
		Server: "localhost",
		Name:   "ferry",
		User:   "ferry",
		Prefix: "sk_",
	}
	in.Choices.Host = "drydock"
	p := clone.Plan(in)
	require.False(t, p.Blocked(), "%v", p.Findings)
	db := p.Target.Database
	assert.Equal(t, "127.0.0.1:3307", db.Server)
	assert.Regexp(t, "^alibi_skerryline_copy_[0-9a-f]{4}$", db.Name)
	assert.Equal(t, db.Name, db.User)
	assert.Equal(t, "/srv/copies/skerryline-copy/now/site", p.Target.Root)
	assert.Contains(t, p.Writes[1], "on drydock")
	assert.Contains(t, p.Writes[2], db.Name)
	copied := p.Target
	in.Over = &copied
	again := clone.Plan(in)
	assert.Equal(t, db.Name+"_b", again.Target.Database.Name, "a refresh is built beside what is there")
	assert.Equal(t, db.User, again.Target.Database.User)
	copied = again.Target
	assert.Equal(t, db.Name, clone.Plan(in).Target.Database.Name)
	assert.Equal(t, "drydock", again.Target.Host, "and where it is")
}

func TestPeopleAreMadeUpWhereACopyLeaves(t *testing.T) {
	for name, c := range map[string]struct {
		host, scrub string
		over        *site.Site
		want        bool
		code        string
	}{
		"to this machine":            {"slipway", "", nil, false, ""},
		"to another host":            {"drydock", "", nil, true, "scrubbed"},
		"on the origin's own host":   {"pier", "", nil, false, ""},
		"to another host, as it is":  {"drydock", "off", nil, false, "personal"},
		"to this machine, asked for": {"slipway", "on", nil, true, "scrubbed"},
		"a scrubbed one in line": {"slipway", "", &site.Site{ID: "abcd1234", Host: "slipway", Scrubbed: true},
			true, "scrubbed"},
		"a scrubbed one, as it is again": {"slipway", "off",
			&site.Site{ID: "abcd1234", Host: "slipway", Scrubbed: true}, false, ""},
	} {
		t.Run(name, func(t *testing.T) {
			in := input()
			in.Origin.Facts.Database = site.Database{Engine: "mysql", Name: "ferry"}
			in.Choices.Host, in.Choices.Scrub, in.Over = c.host, c.scrub, c.over
			p := clone.Plan(in)
			assert.Equal(t, c.want, p.Target.Scrubbed)
			assert.Equal(t, !c.want && c.over == nil, answersFirst(p), "nobody sees people who were left")
			if c.code != "" {
				assert.Contains(t, codes(p), c.code)
			}
		})
	}
}

func TestAPinSheetGivesWhatWasNotChosen(t *testing.T) {
	in := input()
	yes := true
	in.Pins = map[string]clone.Pinned{
		"spring": {
			Means:    "PHP 8.4",
			Runtime:  site.Runtime{PHP: "8.4", Memory: "256M"},
			Quiet:    []site.Rule{"mail"},
			Settings: site.Settings{Debug: &yes},
			Network:  &yes,
		},
		"torn": {Wrong: "line 3: no"},
	}
	in.Choices.Pins, in.Choices.Runtime.Memory = "spring", "64M"
	p := clone.Plan(in)
	assert.False(t, p.Blocked(), p.Findings)
	assert.Equal(t, site.Runtime{PHP: "8.4", Memory: "64M"}, p.Target.Runtime, "what was chosen is stronger")
	assert.Equal(t, []site.Rule{"mail"}, p.Target.Quiet)
	assert.True(t, *p.Target.Settings.Debug)
	assert.Equal(t, "pins", p.Steps[len(p.Steps)-1].Name)
	assert.Equal(t, "the sheet is for a network, and skerryline.example is not one", p.Findings[0].Text)
	for name, text := range map[string]string{"nothing": "there is no pin sheet nothing", "torn": "line 3: no"} {
		in.Choices.Pins = name
		p := clone.Plan(in)
		assert.True(t, p.Blocked())
		assert.Contains(t, p.Findings[0].Text, text)
	}
	in.Choices.Pins, in.Origin.Stack = "spring", "plain"
	assert.True(t, clone.Plan(in).Blocked())
}

func TestFilesThatAreLeftOutForTheirSizeAreCounted(t *testing.T) {
	in := input()
	in.Origin.Facts.Sizes = []int64{9 << 20, 3 << 20, 2 << 20, 100 << 10}
	whole := clone.Plan(in)
	in.Choices.Larger = 2 << 20
	p := clone.Plan(in)
	assert.Equal(t, whole.Files-2, p.Files)
	assert.Equal(t, whole.Bytes-12<<20, p.Bytes)
	left := p.LeftOut[len(p.LeftOut)-1]
	assert.Contains(t, left.What, "but the core's")
	assert.Equal(t, 2, left.Files)
	st := wordpress.Stack{}
	f := clone.Filter(st, tree.Filter{Larger: 10})
	for name, omitted := range map[string]bool{"wp-includes/version.php": false, "wp-content/large.zip": true,
		"wp-content/object-cache.php": true, "index.php": false} {
		got, _ := f.Omits(tree.Entry{Path: name, Size: 99})
		assert.Equal(t, omitted, got, name)
	}
}

func TestMediaComeBehindWhereTheyAreManyAndFarAway(t *testing.T) {
	in := input()
	in.Media = "wp-content/uploads"
	p := clone.Plan(in)
	assert.False(t, p.Target.Behind, "they are few")
	assert.NotContains(t, names(p), "media")

	in.Origin.Facts.Bytes, in.Origin.Facts.Folders[0].Bytes = 900<<20, 800<<20
	p = clone.Plan(in)
	assert.True(t, p.Target.Behind)
	assert.Equal(t, []string{"open", "media", "evidence"}, names(p)[5:8])
	assert.Equal(t, site.Note, codes(p)["media"])
	assert.EqualValues(t, 800<<20, p.Steps[6].Work)
	assert.EqualValues(t, 92<<20, p.Steps[1].Work, "caches stay")
	assert.EqualValues(t, 892<<20, p.Bytes, "and all of it needs room")

	for why, change := range map[string]func(*clone.Input){
		"it was chosen":                          func(in *clone.Input) { in.Choices.Media = clone.MediaFirst },
		"they are left out":                      func(in *clone.Input) { in.Choices.Skip = []string{"wp-content/uploads"} },
		"the site is on this machine":            func(in *clone.Input) { in.Origin.Host = "slipway" },
		"it is made elsewhere":                   func(in *clone.Input) { in.Choices.Host = "drydock" },
		"people are made up, so it is compared":  func(in *clone.Input) { in.Choices.Scrub = "on" },
		"nobody knows which files are media":     func(in *clone.Input) { in.Media = "" },
		"a copy is brought in line, not made":    func(in *clone.Input) { in.Over = &site.Site{Name: "c", Host: "slipway"} },
		"its code could do harm without a wall ": func(in *clone.Input) { unwalled(in) },
	} {
		other := in
		facts := *in.Origin.Facts
		other.Origin.Facts = &facts
		change(&other)
		p := clone.Plan(other)
		assert.False(t, p.Target.Behind, why)
		assert.NotContains(t, names(p), "media", why)
		if other.Choices.Media == "" {
			other.Choices.Media = clone.MediaBehind
			if p := clone.Plan(other); why != "they are left out" {
				assert.Equal(t, site.Warn, codes(p)["media"], why)
			}
		}
	}
}

// unwalled makes the site one whose code runs, where no wall can be had.
func unwalled(in *clone.Input) {
	in.Origin.Facts.Database = site.Database{Engine: "mysql", Server: "localhost", Name: "s", User: "s"}
	in.Places = map[string]clone.Place{"slipway": {Folder: "/copies", Server: "localhost", Unsealed: "no bubblewrap"}}
}
