package wordpress

import (
	"context"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/ballast"
	"alibi/internal/phpval"
	"alibi/internal/scrub"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// manned is a site with two accounts, a post in a group, and settings.
func manned() *memory {
	m := &memory{rows: map[string][]tables.Row{}}
	m.add(
		"sk_options",
		"option_id# option_name option_value autoload",
		[]string{"1", "siteurl", "https://ferry.example", "yes"},
		[]string{
			"2",
			"sk_user_roles",
			string(phpval.Map("administrator", phpval.Map("name", "Administrator"), "editor",
				phpval.Map("name", "Editor")).Marshal()),
			"yes",
		},
		[]string{"3", "admin_email", "desk@ferry.example", "yes"},
		[]string{"4", "_transient_tides", "old", "no"},
		[]string{"5", "_site_transient_update_core", "x", "no"},
		[]string{
			"6",
			"active_plugins",
			string(phpval.List(phpval.String("tide-table/tide-table.php"), phpval.String("old.php")).Marshal()),
			"yes",
		},
		[]string{"7", "stylesheet", "harbour", "yes"},
		[]string{"8", "template", "harbour", "yes"},
		[]string{"9", "default_category", "1", "yes"},
	)
	m.add(
		"sk_users",
		"ID# user_login user_pass user_nicename user_email user_url user_registered user_activation_key display_name",
		[]string{
			"1",
			"runa",
			"$P$x",
			"runa",
			"runa@ferry.example",
			"https://runa.example",
			"2020-01-01 00:00:00",
			"key",
			"Runa Tarrow",
		},
		[]string{"4", "edda", "$P$y", "edda", "edda@ferry.example", "", "2020-01-01 00:00:00", "", "Edda Quill"},
	)
	m.add("sk_usermeta", "umeta_id# user_id# meta_key meta_value",
		[]string{"1", "1", "sk_capabilities", `a:1:{s:13:"administrator";b:1;}`},
		[]string{"2", "4", "sk_capabilities", `a:1:{s:6:"editor";b:1;}`},
		[]string{"3", "1", "billing_phone", "+44 555 0172"}, []string{"9", "4", "nickname", "edda"})
	m.add(
		"sk_posts",
		postColumns,
		[]string{
			"3",
			"1",
			"2020-01-01 00:00:00",
			"2020-01-01 00:00:00",
			"text",
			"Tides",
			"",
			"publish",
			"open",
			"open",
			"tides",
			"2020-01-01 00:00:00",
			"2020-01-01 00:00:00",
			"0",
			"https://ferry.example/?p=3",
			"0",
			"post",
			"0",
		},
	)
	m.add("sk_postmeta", "meta_id# post_id# meta_key meta_value",
		[]string{"5", "3", "_billing_email", "odd@inbox.example"}, []string{"6", "3", "_edit_last", "1"})
	m.add(
		"sk_comments",
		"comment_ID# comment_post_ID# comment_author comment_author_email comment_author_url comment_author_IP "+
			"comment_date comment_date_gmt comment_content comment_approved comment_agent comment_type comment_parent#",
	)
	m.add("sk_terms", "term_id# name slug term_group#", []string{"1", "News", "news", "0"})
	m.add("sk_term_taxonomy", "term_taxonomy_id# term_id# taxonomy description parent# count#",
		[]string{"1", "1", "category", "", "0", "1"})
	m.add("sk_term_relationships", "object_id# term_taxonomy_id# term_order#", []string{"3", "1", "0"})
	m.add("sk_berths", "id# passenger_name email cabin", []string{"1", "Odd Brimstead", "odd@inbox.example", "7B"})
	return m
}

// texts writes a table's rows, a line each.
func (m *memory) texts(table string) (out []string) {
	for _, r := range m.rows[table] {
		var cells []string
		for _, v := range r.Values {
			cells = append(cells, v.String())
		}
		out = append(out, strings.Join(cells, "|"))
	}
	return out
}

// same wants two states to be equal, rows in any order.
func same(t *testing.T, want, got *memory) {
	t.Helper()
	for _, tab := range want.schema.Tables {
		assert.ElementsMatch(t, want.texts(tab.Name), got.texts(tab.Name), tab.Name)
	}
}

var noon = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

func TestBallastIsPutInAndTakenOut(t *testing.T) {
	m, ctx := manned(), context.Background()
	l := ballast.Load{
		Seed:   5,
		Counts: map[string]int{"posts": 4, "pages": 2, "terms": 2, "users": 2, "comments": 6, "media": 2},
	}
	f := site.Facts{Prefix: "sk_"}
	of, err := Stack{}.Ballast(ctx, m, f, l, noon)
	require.NoError(t, err)
	full := after(t, m, of)
	assert.Len(t, full.rows["sk_posts"], 1+4+2+2)
	assert.Len(t, full.rows["sk_comments"], 6)
	assert.Len(t, full.rows["sk_users"], 2+2)
	assert.Len(t, full.rows["sk_terms"], 1+2)
	ids := map[string]bool{}
	for _, line := range full.texts("sk_posts") {
		id, _, _ := strings.Cut(line, "|")
		assert.False(t, ids[id], "no number is given twice")
		ids[id] = true
	}
	for _, line := range full.texts("sk_term_taxonomy")[1:] {
		assert.True(t, strings.HasSuffix(line, "|2"), "a group counts what is in it: %s", line)
	}
	assert.Contains(t, full.texts("sk_term_taxonomy")[0], "|1", "the others count what they did")
	for _, line := range full.texts("sk_usermeta") {
		if strings.Contains(line, "subscriber") {
			assert.Contains(t, line, `a:1:{s:10:"subscriber";b:1;}`)
		}
	}
	again, err := Stack{}.Ballast(ctx, full, f, l, noon.Add(time.Hour))
	require.NoError(t, err)
	same(t, full, after(t, full, again))
	other := l
	other.Seed = 6
	of, err = Stack{}.Ballast(ctx, full, f, other, noon)
	require.NoError(t, err)
	twice := after(t, full, of)
	assert.Len(t, twice.rows["sk_posts"], 1+2*8)
	of, err = Stack{}.Ballast(ctx, twice, f, ballast.Load{Remove: true}, noon)
	require.NoError(t, err)
	same(t, m, after(t, twice, of))
	files := Stack{}.BallastFiles(l)
	assert.Len(t, files, 2)
	for name := range maps.Keys(files) {
		assert.True(t, strings.HasPrefix(name, Stack{}.BallastFolder()+"/"), name)
	}
	_, err = Stack{}.Ballast(ctx, m, f, ballast.Load{Counts: map[string]int{"products": 1}}, noon)
	assert.ErrorContains(t, err, "no products")
	shop := site.Facts{Prefix: "sk_", Contents: []site.Count{{Kind: "products", N: 3}}}
	of, err = Stack{}.Ballast(ctx, m, shop, ballast.Load{Seed: 1, Counts: map[string]int{"products": 2}}, noon)
	require.NoError(t, err)
	assert.Len(t, after(t, m, of).rows["sk_postmeta"], 2+4, "a price, and the usual one")
}

func TestAnAccountIsMadeAndChanged(t *testing.T) {
	m, ctx := manned(), context.Background()
	list, err := Stack{}.Accounts(ctx, m, "sk_")
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, stack.Account{Login: "runa", Name: "Runa Tarrow", Mail: "runa@ferry.example",
		Roles: []string{"administrator"}}, list[0])

	w := stack.AccountWish{Login: "tester", Mail: "t@ferry.example", Role: "editor", Hash: "$2y$hash", At: noon}
	of, err := Stack{}.Account(ctx, m, "sk_", w)
	require.NoError(t, err)
	with := after(t, m, of)
	assert.Contains(t, with.texts("sk_users"), "5|tester|$2y$hash|tester|t@ferry.example||2026-11-28 12:00:00||tester")
	assert.Contains(t, with.texts("sk_usermeta"), `11|5|sk_capabilities|a:1:{s:6:"editor";b:1;}`)
	again, err := Stack{}.Account(ctx, with, "sk_", w)
	require.NoError(t, err)
	same(t, with, after(t, with, again))

	of, err = Stack{}.Account(ctx, m, "sk_", stack.AccountWish{Login: "runa", Hash: "$2y$new"})
	require.NoError(t, err)
	changed := after(t, m, of)
	assert.Contains(t, changed.texts("sk_users")[0], "1|runa|$2y$new|runa|runa@ferry.example|")
	assert.NotContains(t, changed.texts("sk_users")[0], "|key|", "a key to set another password is void")
	assert.Equal(t, m.texts("sk_usermeta"), changed.texts("sk_usermeta"))
	of, err = Stack{}.Account(ctx, m, "sk_", stack.AccountWish{Login: "edda", Role: "administrator"})
	require.NoError(t, err)
	assert.Contains(t, after(t, m, of).texts("sk_usermeta")[1], "administrator")

	for want, w := range map[string]stack.AccountWish{"has no role": {Login: "edda", Role: "pirate"},
		"needs a role and a password": {Login: "nobody"}} {
		_, err := Stack{}.Account(ctx, m, "sk_", w)
		assert.ErrorContains(t, err, want)
	}
}

func TestKeptResultsGo(t *testing.T) {
	m := manned()
	of := func(t tables.Table) stack.Cleanup { return Stack{}.EmptyCaches("sk_", t) }
	clean := after(t, m, of)
	assert.Len(t, clean.rows["sk_options"], 7)
	assert.NotContains(t, strings.Join(clean.texts("sk_options"), "\n"), "transient")
	same(t, clean, after(t, clean, of))
	assert.Equal(t, m.texts("sk_posts"), clean.texts("sk_posts"))
}

func TestSwitchesAreSetAndStay(t *testing.T) {
	m, ctx := manned(), context.Background()
	for name, c := range map[string]struct {
		w    stack.Switches
		want []string
	}{
		"one on": {stack.Switches{On: []string{"bell/bell.php"}},
			[]string{"bell/bell.php", "old.php", "tide-table/tide-table.php"}},
		"one off":            {stack.Switches{Off: []string{"tide-table"}}, []string{"old.php"}},
		"a file alone off":   {stack.Switches{Off: []string{"old"}}, []string{"tide-table/tide-table.php"}},
		"all off":            {stack.Switches{AllOff: true}, nil},
		"all but one off":    {stack.Switches{AllOff: true, Except: []string{"old"}}, []string{"old.php"}},
		"all off and one on": {stack.Switches{AllOff: true, On: []string{"bell/bell.php"}}, []string{"bell/bell.php"}},
		"another main file": {stack.Switches{Off: []string{"tide-table"}, On: []string{"tide-table/tides.php"}},
			[]string{"old.php", "tide-table/tides.php"}},
		"what is off already": {stack.Switches{Off: []string{"nothing"}},
			[]string{"tide-table/tide-table.php", "old.php"}},
	} {
		t.Run(name, func(t *testing.T) {
			of, err := Stack{}.Switch(ctx, m, "sk_", c.w)
			require.NoError(t, err)
			next := after(t, m, of)
			line := next.texts("sk_options")[5]
			v, err := phpval.Parse([]byte(strings.Split(line, "|")[2]))
			require.NoError(t, err)
			var got []string
			for _, it := range v.Items {
				got = append(got, it.Val.Str)
			}
			assert.Equal(t, c.want, got)
			of, err = Stack{}.Switch(ctx, next, "sk_", c.w)
			require.NoError(t, err)
			same(t, next, after(t, next, of))
		})
	}
	of, err := Stack{}.Switch(ctx, m, "sk_", stack.Switches{Theme: "child", Parent: "harbour"})
	require.NoError(t, err)
	lines := after(t, m, of).texts("sk_options")
	assert.Contains(t, lines[6], "stylesheet|child")
	assert.Contains(t, lines[7], "template|harbour")
}

func TestWherePeopleAre(t *testing.T) {
	m := manned()
	rules := Stack{}.Personal("sk_", map[string]scrub.Kind{"sk_berths.cabin": scrub.Blank})
	kinds := map[string]scrub.Kind{}
	for _, tab := range m.schema.Tables {
		for _, r := range m.rows[tab.Name] {
			for i, k := range rules.Row(tab, r) {
				if k != "" {
					kinds[tab.Name+" "+r.Values[0].String()+" "+tab.Columns[i].Name] = k
				}
			}
		}
	}
	for place, want := range map[string]scrub.Kind{
		"sk_users 1 user_login": scrub.Login, "sk_users 1 user_pass": scrub.Lock, "sk_users 4 user_email": scrub.Email,
		"sk_users 1 user_url": scrub.Blank, "sk_users 1 display_name": scrub.Name,
		"sk_usermeta 3 meta_value": scrub.Phone, "sk_usermeta 9 meta_value": scrub.Name,
		"sk_postmeta 5 meta_value": scrub.Email, "sk_options 3 option_value": scrub.Email,
		"sk_berths 1 passenger_name": scrub.Name, "sk_berths 1 email": scrub.Email, "sk_berths 1 cabin": scrub.Blank,
	} {
		assert.Equal(t, want, kinds[place], place)
		delete(kinds, place)
	}
	for _, more := range []string{"sk_users 4 user_login", "sk_users 1 user_email"} {
		delete(kinds, more)
	}
	for place := range kinds {
		assert.True(
			t,
			strings.HasPrefix(place, "sk_users 4 ") || strings.HasSuffix(place, " user_nicename") ||
				strings.HasSuffix(place, "user_activation_key"),
			"%s is nobody's",
			place,
		)
	}
	var people, not []string
	for _, tab := range m.schema.Tables {
		if rules.Table(tab) {
			people = append(people, tab.Name)
		} else {
			not = append(not, tab.Name)
		}
	}
	assert.Equal(t, []string{"sk_options", "sk_users", "sk_usermeta", "sk_postmeta", "sk_comments", "sk_berths"},
		people)
	assert.Contains(t, not, "sk_posts")
	// A sub-site's tables count, another installation's don't.
	assert.True(t, rules.Table(tables.Table{Name: "sk_3_comments"}))
	assert.False(t, rules.Table(tables.Table{Name: "other_comments"}))
}

func TestTwoThingsAreDoneToOneTable(t *testing.T) {
	up := stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) {
		r.Values = slices.Clone(r.Values)
		r.Values[0].Int++
		return r, true
	}, Add: []tables.Row{{}}}
	odd := stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) { return r, r.Values[0].Int%2 == 1 }}
	k := up.Then(odd)
	got, stays := k.Row(tables.Row{Values: []tables.Value{{Kind: tables.Int, Int: 4}}})
	assert.True(t, stays)
	assert.EqualValues(t, 5, got.Values[0].Int)
	_, stays = k.Row(tables.Row{Values: []tables.Value{{Kind: tables.Int, Int: 5}}})
	assert.False(t, stays)
	assert.Len(t, k.Add, 1)
	assert.True(t, stack.Cleanup{}.Then(stack.Cleanup{Empty: true}).Empty)
	assert.True(t, stack.Cleanup{Goes: true}.Then(up).Goes)
	assert.True(t, up.Then(stack.Cleanup{Goes: true}).Goes)
	assert.False(t, stack.Cleanup{}.Then(stack.Cleanup{}).Changes())
	assert.NotNil(t, stack.Cleanup{Add: []tables.Row{{}}}.Then(odd).Row)
	assert.NotNil(t, odd.Then(stack.Cleanup{Add: []tables.Row{{}}}).Row)
}
