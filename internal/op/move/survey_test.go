package move

import (
	"fmt"
	"io/fs"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

// surveyed is a survey of a shop's way from pier to drydock.
func surveyed() *surveying {
	return &surveying{
		here: site.Site{Name: "tickets.skerryline.example", Host: "pier", Stack: "wordpress",
			Database: site.Database{Engine: "mysql", Name: "tickets"}, Facts: &site.Facts{PHP: "8.2.7", TableBytes: 1000}},
		there: site.Site{Host: "drydock", Root: "/var/www/tickets"},
	}
}

// findings gives each as "severity code: text".
func (v *surveying) findings() (out []string) {
	for _, f := range v.out.Findings {
		out = append(out, fmt.Sprintf("%s %s: %s", f.Severity, f.Code, f.Text))
	}
	return out
}

func TestASurveyOfFiles(t *testing.T) {
	list := &tree.Listing{Entries: []tree.Entry{{Path: "a", Size: 5}, {Path: "many", Mode: fs.ModeDir}},
		Problems: []tree.Problem{{Path: "key", Kind: "unreadable"}, {Path: "key2", Kind: "unreadable"},
			{Path: "out", Kind: "link-out"}, {Path: "pipe", Kind: "special"}}}
	for n := range crowded + 1 {
		list.Entries = append(list.Entries, tree.Entry{Path: fmt.Sprintf("many/%d", n), Size: 1})
	}
	v := surveyed()
	v.listed(list)
	assert.Equal(t, crowded+2, v.out.Files)
	assert.Equal(t, int64(crowded+1+5+1000), v.out.Bytes, "with what the tables have")
	assert.Equal(t, []string{
		"warning link-out: 1 entry will not be brought, the first: out: it is a link that leads out of the site",
		"warning special: 1 entry will not be brought, the first: pipe",
		"obstacle unreadable: 2 entries will not be brought, the first: key: our account on pier may not read it",
		"warning crowded: the folder many has 20,001 entries",
	}, v.findings())
}

func TestASurveyOfRoom(t *testing.T) {
	for name, c := range map[string]struct {
		free, inodes int64
		all          plan.Survey
		want         []string
	}{
		"room":            {2000, 200, plan.Survey{Bytes: 1000, Files: 100}, nil},
		"nothing is told": {0, 0, plan.Survey{Bytes: 1 << 40, Files: 1 << 30}, nil},
		"a full disk": {1050, 0, plan.Survey{Bytes: 1000, Files: 100},
			[]string{"obstacle disk: 1000 B will arrive, and 1.0 KiB are free on drydock"}},
		"full with others": {2000, 0, plan.Survey{Bytes: 3000, Files: 100},
			[]string{"warning disk: 2.9 KiB will arrive on drydock together with others, and 2.0 KiB are free"}},
		"no inodes": {0, 99, plan.Survey{Bytes: 1000, Files: 100},
			[]string{"obstacle inodes: 100 files will arrive, and the disk of drydock takes 99 more"}},
		"no inodes with others": {0, 150, plan.Survey{Bytes: 1000, Files: 200},
			[]string{"warning inodes: 200 files will arrive on drydock together with others, and the disk takes 150 more"}},
	} {
		t.Run(name, func(t *testing.T) {
			v := surveyed()
			v.out.Bytes, v.out.Files = 1000, 100
			v.fits(c.free, c.inodes, c.all, "others")
			assert.Equal(t, c.want, v.findings())
		})
	}
}

func TestASurveyOfPHP(t *testing.T) {
	was := phpState{Version: "8.2.7", Extensions: []string{"mysqli", "gd", "intl"}, Memory: "256M", Upload: "64M",
		Post: "-1"}
	with := func(change func(*phpState)) *phpState {
		is := was
		is.Extensions = slices.Clone(was.Extensions)
		change(&is)
		return &is
	}
	for name, c := range map[string]struct {
		is, was *phpState
		want    []string
	}{
		"the same":      {with(func(*phpState) {}), &was, nil},
		"another patch": {with(func(p *phpState) { p.Version = "8.2.30" }), &was, nil},
		"another version": {with(func(p *phpState) { p.Version = "7.4.3" }), &was,
			[]string{"warning php: the site runs on PHP 8.2.7, and drydock has 7.4.3"}},
		"no mysqli": {with(func(p *phpState) { p.Extensions = []string{"gd", "intl"} }), nil,
			[]string{"obstacle extension: drydock has no mysqli: the site would not reach its database"}},
		"no gd": {with(func(p *phpState) { p.Extensions = []string{"mysqli"} }), &was,
			[]string{"warning extension: drydock lacks 2 extensions of PHP that pier has: gd, intl"}},
		"less": {with(func(p *phpState) { p.Memory, p.Upload, p.Post = "128M", "1G", "8M" }), &was, []string{
			"warning limit: memory_limit is 128M on drydock, and 256M on pier",
			"warning limit: post_max_size is 8M on drydock, and -1 on pier"}},
	} {
		t.Run(name, func(t *testing.T) {
			v := surveyed()
			v.runs(c.is, c.was)
			assert.Equal(t, c.want, v.findings())
		})
	}
}

func TestASurveyOfDatabaseServers(t *testing.T) {
	was := tables.Abilities{Packet: 64 << 20, Modes: "STRICT_TRANS_TABLES"}
	v := surveyed()
	v.serves(&was, &was)
	assert.Empty(t, v.findings())
	v.serves(&tables.Abilities{Packet: 1 << 20, Folds: true}, &was)
	assert.Equal(t, []string{
		"warning packet: a row may have 1.0 MiB on drydock, and 64 MiB on pier",
		`note modes: the servers are not equally strict: sql_mode is "" there and "STRICT_TRANS_TABLES" here`,
		"warning case: names of tables are the same in upper and lower case on one of the servers only",
	}, v.findings())
	v = surveyed()
	v.serves(&tables.Abilities{Packet: 1 << 30, Modes: was.Modes}, &was)
	assert.Empty(t, v.findings(), "more is no loss")
}
