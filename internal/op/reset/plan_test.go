package reset

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/depot"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/stack"
)

var at = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func input(change func(*Input)) Input {
	in := Input{
		Site: site.Site{
			ID:       "abcde",
			Name:     "near",
			Role:     site.Copy,
			State:    site.Ready,
			Stack:    "wordpress",
			Root:     "/copies/near/now/site",
			Host:     "slipway",
			Database: site.Database{Engine: "mysql", Name: "alibi_near", Server: "localhost"},
			Facts:    &site.Facts{Files: 10, Bytes: 1000, Rows: 5},
		},
		Point:   &depot.Point{ID: "20261120-090000-aa", Files: 9, Rows: 4, Bytes: 900},
		Choices: Choices{Files: true, Database: true},
		Depot:   "/depot",
		Now:     at,
		By:      "runa",
	}
	if change != nil {
		change(&in)
	}
	return in
}

func steps(p plan.Plan) (out []string) {
	for _, s := range p.Steps {
		out = append(out, s.Name)
	}
	return out
}

func findings(p plan.Plan) map[string]site.Severity {
	out := map[string]site.Severity{}
	for _, f := range p.Findings {
		out[f.Code] = f.Severity
	}
	return out
}

func TestAPlanSaysWhatItWillDo(t *testing.T) {
	p := Plan(input(nil))
	assert.Equal(t, plan.Restore, p.Kind)
	assert.Equal(t, []string{"reserve", "stage", "close", "keep", "tables", "files", "prove", "open"}, steps(p))
	assert.Equal(t, "restore point 20261120-090000-aa", p.Words)
	assert.Empty(t, p.Confirm, "a copy without work on it")
	assert.Contains(t, p.Writes, "database alibi_near on localhost")
	assert.Positive(t, p.Estimate.High)
	c, err := plan.DetailOf[Choices](p)
	require.NoError(t, err, "it is carried out from its JSON form")
	assert.True(t, c.Whole())
	_, err = plan.DetailOf[Choices](plan.Plan{Detail: []byte("{")})
	assert.ErrorContains(t, err, "reading the plan")
}

func TestParts(t *testing.T) {
	p := Plan(input(func(in *Input) { in.Choices = Choices{Files: true, Paths: []string{"wp-content/themes"}} }))
	assert.Equal(t, []string{"reserve", "stage", "close", "keep", "files", "prove", "open"}, steps(p))
	assert.Contains(t, p.Words, "(wp-content/themes)")
	p = Plan(input(func(in *Input) {
		in.Choices = Choices{Database: true, Kinds: []site.Kind{site.Posts}, Items: []int64{4}}
	}))
	assert.Contains(t, p.Words, "(posts, 1 single items)")
	assert.NotContains(t, steps(p), "files")
	p = Plan(input(func(in *Input) { in.Site.Database = site.Database{} }))
	assert.NotContains(t, steps(p), "tables", "a site without a database")
	p = Plan(input(func(in *Input) {
		in.Point, in.Choices = nil, Choices{Files: true, Clean: &Clean{Tidy: []string{"plugins", "uploads"}}}
	}))
	assert.Equal(t, plan.Reset, p.Kind)
	assert.Equal(t, "a site without plugins, uploads", p.Words)
	for words, c := range map[string]Clean{"a clean site": {Wish: stack.Wish{All: true}},
		"a site without posts, pages":    {Wish: stack.Wish{Kinds: []site.Kind{site.Posts, site.Pages}}},
		"a site without what tide keeps": {Wish: stack.Wish{Plugin: "tide"}}} {
		assert.Equal(t, words, c.words())
	}
}

func TestWhereANameHasToBeTyped(t *testing.T) {
	for name, change := range map[string]func(*Input){
		"live": func(in *Input) { in.Site.Role = site.Live }, "held": func(in *Input) { in.Site.Lease.Held = true },
		"lost": func(in *Input) { in.Unique = 3 },
	} {
		p := Plan(input(change))
		assert.Equal(t, "near", p.Confirm, name)
		assert.Contains(t, findings(p), name)
		assert.False(t, p.Blocked())
	}
}

func TestWhatStandsAgainstIt(t *testing.T) {
	for code, change := range map[string]func(*Input){
		"busy": func(in *Input) { in.Site.Run = "r1" }, "state": func(in *Input) { in.Site.State = site.Expired },
		"beside": func(in *Input) { in.Site.Database.As = "wp_" },
	} {
		p := Plan(input(change))
		assert.True(t, p.Blocked(), code)
		assert.Equal(t, site.Block, findings(p)[code])
	}
	p := Plan(input(func(in *Input) { in.Site.Role, in.First = site.Live, true }))
	assert.Contains(t, findings(p), "first", "the notice would stand for long")
	p = Plan(input(func(in *Input) { in.Site.Role, in.Site.Stack = site.Live, "plain" }))
	assert.Contains(t, findings(p), "notice", "visitors of it see the exchange")
}

func TestPathsStayInTheSite(t *testing.T) {
	out, err := Paths([]string{"/wp-content/", "a/../b"})
	require.NoError(t, err)
	assert.Equal(t, []string{"wp-content", "b"}, out)
	for _, bad := range []string{"..", "../x", "", ".", "/"} {
		_, err := Paths([]string{bad})
		assert.Error(t, err, bad)
	}
	in := inPaths([]string{"wp-content/themes"})
	assert.True(t, in("wp-content/themes/x"))
	assert.False(t, in("wp-content/themes2"))
	assert.True(t, above("wp-content", []string{"wp-content/themes"}))
	assert.True(t, inPaths(nil)("anything"))
}
