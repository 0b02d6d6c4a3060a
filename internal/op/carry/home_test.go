package carry_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/depot"
	"alibi/internal/op/carry"
	"alibi/internal/op/keep"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// carried plans to carry something, and does it.
func carried(t *testing.T, w *realtest.World, s site.Site, wish carry.Wish) (plan.Plan, plan.Run) {
	t.Helper()
	p, err := w.Desk.Copies.PlanSync(context.Background(), s.ID, wish)
	require.NoError(t, err)
	require.False(t, p.Blocked(), "%v", p.Findings)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	return p, r
}

func undone(t *testing.T, w *realtest.World, run string) plan.Run {
	t.Helper()
	p, err := w.Desk.Copies.PlanUnsync(context.Background(), run)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	return r
}

// rows gives all rows of content of a site, but for what it writes by itself.
func rows(t *testing.T, s site.Site) string {
	t.Helper()
	var out strings.Builder
	for _, q := range []string{
		"SELECT GROUP_CONCAT(CONCAT_WS('|', ID, post_title, post_status, MD5(post_content), post_parent, guid) ORDER BY ID " +
			"SEPARATOR '\n') FROM sk_posts",
		"SELECT GROUP_CONCAT(CONCAT_WS('|', meta_id, post_id, meta_key, MD5(meta_value)) ORDER BY meta_id SEPARATOR '\n') " +
			"FROM sk_postmeta",
		"SELECT GROUP_CONCAT(CONCAT_WS('|', option_id, option_name, MD5(option_value)) ORDER BY option_id SEPARATOR '\n') " +
			"FROM sk_options WHERE option_name NOT LIKE '%transient%' AND option_name <> 'cron'",
		"SELECT GROUP_CONCAT(CONCAT_WS('|', object_id, term_taxonomy_id) ORDER BY 1 SEPARATOR '\n') FROM " +
			"sk_term_relationships",
		"SELECT GROUP_CONCAT(CONCAT_WS('|', comment_ID, comment_post_ID, comment_content) ORDER BY 1 SEPARATOR '\n') FROM " +
			"sk_comments",
	} {
		out.WriteString(get(t, s, q) + "\n")
	}
	return out.String()
}

func somePage(t *testing.T, s site.Site) string {
	t.Helper()
	return get(t, s, "SELECT CONCAT(ID) FROM sk_posts WHERE post_type = 'page' AND post_status = 'publish' LIMIT 1")
}

func TestAChangedPageComesHome(t *testing.T) {
	w, live, s := pair(t)
	id := somePage(t, live)
	was := rows(t, live)
	old := get(t, live, "SELECT post_content FROM sk_posts WHERE ID = "+id)
	on(t, live, "UPDATE sk_posts SET post_content = CONCAT(post_content, '\nTo www: "+
		"http://www.ferry.skerryline.example/x') "+
		"WHERE ID = "+id)
	p, err := w.Desk.Copies.PlanRefresh(context.Background(), s.ID)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(p).State)
	s = w.Site("winter")
	here := s.Address().String()
	on(t, s, "UPDATE sk_posts SET post_content = CONCAT(post_content, '\nSee "+here+"/new/'), post_title = 'Low tide' "+
		"WHERE ID = "+id, "INSERT INTO sk_postmeta (post_id, meta_key, meta_value) VALUES ("+id+", 'berths', '4')",
		"UPDATE sk_options SET option_value = 'By boat' WHERE option_name = 'blogdescription'")
	on(t, live, "INSERT INTO sk_comments (comment_post_ID, comment_author, comment_content) VALUES ("+id+", 'A', 'mine')")
	p, r := carried(t, w, s, carry.Wish{To: carry.Live, Items: []string{"post:" + id}, Note: "the new timetable"})
	assert.Equal(t, live.Name, p.Confirm, "its name is typed")
	require.Len(t, p.Goes, 1)
	assert.Equal(t, `page "Low tide" (post:`+id+") is changed: berths, post_content, post_title", p.Goes[0].What)
	got := get(t, live, "SELECT post_content FROM sk_posts WHERE ID = "+id)
	assert.Equal(t, old+"\nTo www: http://www.ferry.skerryline.example/x\nSee "+
		strings.TrimSuffix(live.Address().String(), "/")+
		"/new/", got, "what nobody changed stays, and the address is the live site's")
	assert.Equal(t, "Low tide", get(t, live, "SELECT post_title FROM sk_posts WHERE ID = "+id))
	assert.Equal(t, "4", get(t, live, "SELECT meta_value FROM sk_postmeta WHERE meta_key = 'berths'"))
	assert.NotEqual(t, "By boat", get(t, live, "SELECT option_value FROM sk_options WHERE option_name = "+
		"'blogdescription'"))
	assert.Equal(t, "mine", get(t, live, "SELECT comment_content FROM sk_comments ORDER BY comment_ID DESC LIMIT 1"))
	assert.Contains(t, r.Result, "1 item carried from winter: the new timetable; 2 rows are as they should be")
	left := lines(drifted(t, w, s))
	assert.Len(t, left, 2, "the comment and the setting: %s", strings.Join(left, "\n"))
	p, err = w.Desk.Copies.PlanSync(context.Background(), s.ID, carry.Wish{To: carry.Live, All: true})
	require.NoError(t, err)
	assert.Len(t, p.Goes, 1, "what was carried is not carried again: %v", p.Goes)

	on(t, live, "UPDATE sk_posts SET post_excerpt = 'by a visitor' WHERE ID = "+id)
	p, err = w.Desk.Copies.PlanUnsync(context.Background(), r.ID)
	require.NoError(t, err)
	back := w.Run(p)
	assert.Contains(t, back.Error, "there is nothing to carry: post:"+id+": it was changed by others meanwhile")
	on(t, live, "UPDATE sk_posts SET post_excerpt = '' WHERE ID = "+id)
	on(t, live, "DELETE FROM sk_comments ORDER BY comment_ID DESC LIMIT 1")
	assert.Equal(t, "Low tide", get(t, live, "SELECT post_title FROM sk_posts WHERE ID = "+id))
	undone(t, w, r.ID)
	on(t, live, "UPDATE sk_posts SET post_content = REPLACE(post_content, '\nTo www: "+
		"http://www.ferry.skerryline.example/x', '')")
	assert.Equal(t, was, rows(t, live), "all of it is undone, and nothing else was changed")
	assert.Len(t, lines(drifted(t, w, s)), 2)
}

// Both sides made things under the same numbers: each side gets the other's, and what refers to them leads to the right
// ones.
func TestThingsOfOneNumberAreTwoThings(t *testing.T) {
	w, live, s := pair(t)
	next := 9001
	make2 := func(s site.Site, name string) {
		at := strings.TrimSuffix(s.Address().String(), "/")
		on(t, s, fmt.Sprintf(insertPost, next, "picture of "+name, name+" picture", name+"-picture",
			at+"/?attachment_id=9001"),
			fmt.Sprintf(insertPost, next+1, fmt.Sprintf(`<!-- wp:image {"id":%d} --><img class="wp-image-%d">`, next, next),
				name,
				name, at+"/?page_id=9002"),
			fmt.Sprintf("UPDATE sk_posts SET post_parent = %d WHERE ID = %d", next, next+1),
			fmt.Sprintf("INSERT INTO sk_postmeta (meta_id, post_id, meta_key, meta_value) VALUES (9001, %d, '_thumbnail_id', "+
				"'%d')",
				next+1, next))
	}
	make2(s, "Fog")
	make2(live, "Storm")
	before := rows(t, live)
	p, r := carried(t, w, s, carry.Wish{To: carry.Live, Items: []string{"post:9002@copy"}})
	assert.Len(t, p.Goes, 2, "it needs its picture: %v", p.Goes)
	assert.Contains(t, fmt.Sprint(p.Goes), "others need it")
	for _, name := range []string{"Fog", "Storm"} {
		at := get(t, live, "SELECT CONCAT(ID) FROM sk_posts WHERE post_title = '"+name+" picture'")
		page := get(t, live, "SELECT CONCAT(ID) FROM sk_posts WHERE post_title = '"+name+"'")
		assert.Equal(t, fmt.Sprintf(`<!-- wp:image {"id":%s} --><img class="wp-image-%s">`, at, at),
			get(t, live, "SELECT post_content FROM sk_posts WHERE ID = "+page), name)
		assert.Equal(t, at, get(t, live, "SELECT CONCAT(post_parent) FROM sk_posts WHERE ID = "+page), name)
		assert.Equal(t, at, get(t, live, "SELECT meta_value FROM sk_postmeta WHERE meta_key = '_thumbnail_id' AND post_id "+
			"= "+page))
		assert.True(t, strings.HasSuffix(get(t, live, "SELECT guid FROM sk_posts WHERE ID = "+page), "/?page_id="+page), name)
	}
	assert.Equal(t, "9001", get(t, live, "SELECT CONCAT(ID) FROM sk_posts WHERE post_title = 'Storm picture'"))
	carried(t, w, s, carry.Wish{To: carry.Copy, All: true})
	for _, q := range []string{"SELECT GROUP_CONCAT(CONCAT_WS('|', ID, post_title, post_parent, post_content) ORDER BY " +
		"ID) FROM " +
		"sk_posts WHERE ID > 9000", "SELECT GROUP_CONCAT(CONCAT_WS('|', post_id, meta_key, meta_value) ORDER BY meta_id) " +
		"FROM " +
		"sk_postmeta WHERE post_id > 9000"} {
		assert.Equal(t, get(t, live, q), get(t, s, q), "both sides are equal")
	}
	assert.Empty(t, lines(drifted(t, w, s)), "and nothing is left to carry")
	undone(t, w, r.ID)
	assert.Equal(t, before, rows(t, live))
}

// Of a table that Alibi knows nothing of, no row gets another number: who refers to it can't be told. A row of it that
// may mean something else that gets one is named.
func TestNumbersOfWhichNothingIsKnownStay(t *testing.T) {
	w, live, s := pair(t, "CREATE TABLE sk_berths (id INT PRIMARY KEY, page INT)")
	for _, side := range []site.Site{live, s} {
		on(t, side, fmt.Sprintf(insertPost, 9001, "new", "Page of "+string(side.Role), string(side.Role), "x"))
	}
	on(t, live, "INSERT INTO sk_berths VALUES (7, 1)")
	on(t, s, "INSERT INTO sk_berths VALUES (7, 2), (8, 9001)")
	p, r := carried(t, w, s, carry.Wish{To: carry.Live, All: true})
	assert.Contains(t, fmt.Sprint(p.Findings), "row:sk_berths/7@copy is not carried: the other side has given its "+
		"number in "+
		"sk_berths away too, and nothing tells what refers to it")
	assert.Contains(t, r.Result, "1 place on the copy may mean a number that changed, look there: row:sk_berths/8 "+
		"holds 9001, "+
		"which is 9002 in sk_posts now")
	assert.Equal(t, "7|1,8|9001", get(t, live, "SELECT GROUP_CONCAT(CONCAT_WS('|', id, page) ORDER BY id) FROM sk_berths"))
	assert.Equal(t, "7|2,8|9001", get(t, s, "SELECT GROUP_CONCAT(CONCAT_WS('|', id, page) ORDER BY id) FROM sk_berths"))
	assert.Equal(t, "9001|Page of live,9002|Page of copy", get(t, live,
		"SELECT GROUP_CONCAT(CONCAT_WS('|', ID, post_title) "+
			"ORDER BY ID) FROM sk_posts WHERE ID > 9000"))
}

func TestWhatBothSidesChangedIsDecided(t *testing.T) {
	w, live, s := pair(t)
	id := somePage(t, live)
	on(t, s, "UPDATE sk_posts SET post_title = 'mine' WHERE ID = "+id)
	on(t, live, "UPDATE sk_posts SET post_title = 'theirs' WHERE ID = "+id)
	name := "post:" + id
	p, err := w.Desk.Copies.PlanSync(context.Background(), s.ID, carry.Wish{To: carry.Live, Items: []string{name}})
	require.NoError(t, err)
	assert.True(t, p.Blocked())
	assert.Contains(t, fmt.Sprint(p.Findings), "both sides changed it")
	for _, c := range []struct {
		to, take carry.Side
		want     string
	}{{carry.Live, carry.Live, "theirs"}, {carry.Live, carry.Copy, "mine"}} {
		p, err := w.Desk.Copies.PlanSync(context.Background(), s.ID, carry.Wish{To: c.to, Items: []string{name},
			Take: map[string]carry.Side{name: c.take}})
		require.NoError(t, err)
		if !p.Blocked() {
			r := w.Run(p)
			require.Equal(t, plan.Done, r.State, r.Error)
		}
		assert.Equal(t, c.want, get(t, live, "SELECT post_title FROM sk_posts WHERE ID = "+id))
	}
	assert.Empty(t, lines(drifted(t, w, s)))
}

// What both had is kept with the copy; where that is lost, a restore point of either side may have it. Their changes
// are merged, and both sides get both.
func TestChangesOfBothSidesAreMerged(t *testing.T) {
	ctx := context.Background()
	w, live, s := pair(t)
	id := somePage(t, live)
	on(t, live, "UPDATE sk_posts SET post_content = 'one\n<a "+
		"href=\"https://ferry.skerryline.example/x\">two</a>\nthree\nfour\n' "+
		"WHERE ID = "+id)
	p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	require.Equal(t, plan.Done, w.Run(p).State)
	name := "post:" + id
	for i, kept := range []site.Site{{}, live, s} {
		earlier, later := fmt.Sprintf("203%d-01-01 00:00:00", i), fmt.Sprintf("203%d-01-02 00:00:00", i)
		if kept.Name != "" {
			p, err := w.Desk.Points.PlanKeep(ctx, kept.ID, keep.Choices{Kind: depot.ByHand})
			require.NoError(t, err)
			require.Equal(t, plan.Done, w.Run(p).State)
			require.NoError(t, os.Remove(filepath.Join(w.Base, "copies", s.Name, "values.db")))
		}
		on(t, s, "UPDATE sk_posts SET post_content = REPLACE(post_content, 'one', 'ONE'), post_title = 'mine', "+
			"post_modified = '"+earlier+"' WHERE ID = "+id)
		on(t, live, "UPDATE sk_posts SET post_content = REPLACE(post_content, 'four', 'FOUR'), post_modified = '"+
			later+"' WHERE ID = "+id)
		p, r := carried(t, w, s, carry.Wish{To: carry.Live, Items: []string{name}})
		assert.Contains(t, fmt.Sprint(p.Findings), "both changes are in what is written")
		content := "ONE\n<a href=\"https://ferry.skerryline.example/x\">two</a>\nthree\nFOUR\n"
		assert.Equal(t, content, get(t, live, "SELECT post_content FROM sk_posts WHERE ID = "+id))
		assert.Equal(t, "mine", get(t, live, "SELECT post_title FROM sk_posts WHERE ID = "+id))
		assert.Equal(t, later, get(t, live, "SELECT CONCAT(post_modified) FROM sk_posts WHERE ID = "+id))
		items := lines(drifted(t, w, s))
		require.Len(t, items, 1)
		assert.Contains(t, items[0], name+` page "mine" copy  live changed`)
		_, back := carried(t, w, s, carry.Wish{To: carry.Copy, Items: []string{name}})
		assert.Equal(t, "FOUR", get(t, s, "SELECT SUBSTRING(post_content, LOCATE('FOUR', post_content), 4) FROM sk_posts "+
			"WHERE "+
			"ID = "+id))
		assert.Empty(t, lines(drifted(t, w, s)), "both sides are equal")
		undone(t, w, back.ID)
		undone(t, w, r.ID)
		on(t, s, "UPDATE sk_posts SET post_content = REPLACE(post_content, 'ONE', 'one'), post_title = 'x' WHERE ID = "+id)
		on(t, live, "UPDATE sk_posts SET post_content = REPLACE(post_content, 'FOUR', 'four') WHERE ID = "+id)
		p, err = w.Desk.Copies.PlanRefresh(ctx, s.ID)
		require.NoError(t, err)
		r = w.Run(p)
		require.Equal(t, plan.Done, r.State, r.Error)
		points, _, err := w.Desk.Points.Points(ctx, "")
		require.NoError(t, err)
		_, err = w.Desk.Points.ForgetPoints(ctx, points)
		require.NoError(t, err)
	}
	on(t, s, "UPDATE sk_posts SET post_title = 'mine' WHERE ID = "+id)
	on(t, live, "UPDATE sk_posts SET post_title = 'theirs' WHERE ID = "+id)
	p, err = w.Desk.Copies.PlanSync(ctx, s.ID, carry.Wish{To: carry.Live, Items: []string{name}})
	require.NoError(t, err)
	assert.True(t, p.Blocked(), "the same place is not merged")
}

func TestWhatIsChangedBetweenPlanAndRunIsLeft(t *testing.T) {
	w, live, s := pair(t)
	id := somePage(t, live)
	on(t, s, "UPDATE sk_posts SET post_title = 'mine' WHERE ID = "+id,
		"UPDATE sk_options SET option_value = 'By boat' WHERE option_name = 'blogdescription'")
	p, err := w.Desk.Copies.PlanSync(context.Background(), s.ID, carry.Wish{To: carry.Live, All: true})
	require.NoError(t, err)
	on(t, live, "UPDATE sk_posts SET post_excerpt = 'by a visitor' WHERE ID = "+id)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Contains(t, r.Result, "1 item carried from winter; 1 was left")
	rec, err := w.Desk.Copies.Carried(r.ID)
	require.NoError(t, err)
	assert.Equal(t, []carry.Left{{Item: "post:" + id, Why: "it was changed since the plan was made"}}, rec.Left)
	assert.Equal(t, "By boat", get(t, live, "SELECT option_value FROM sk_options WHERE option_name = 'blogdescription'"))
	assert.NotEqual(t, "mine", get(t, live, "SELECT post_title FROM sk_posts WHERE ID = "+id))
}

// A picture comes with its files; what stands in their way is left alone.
func TestAPictureBringsItsFiles(t *testing.T) {
	ctx := context.Background()
	w, live, s := pair(t)
	at := strings.TrimSuffix(s.Address().String(), "/")
	write := func(s site.Site, name, text string) {
		file := filepath.Join(s.Root, "wp-content/uploads", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	on(t, s, fmt.Sprintf(insertPost, 9001, "", "Fog", "fog", at+"/?attachment_id=9001"),
		"UPDATE sk_posts SET post_type = 'attachment', post_status = 'inherit' WHERE ID = 9001",
		"INSERT INTO sk_postmeta (post_id, meta_key, meta_value) VALUES (9001, '_wp_attached_file', '2027/11/fog.jpg'), "+
			`(9001, '_wp_attachment_metadata', 'a:2:{s:4:"file";s:15:"2027/11/fog.jpg";s:5:"sizes";a:1:{s:5:"small";a:1:{`+
			`s:4:"file";s:11:"fog-300.jpg";}}}')`)
	write(s, "2027/11/fog.jpg", "fog")
	write(s, "2027/11/fog-300.jpg", "small fog")
	write(live, "2027/11/fog-300.jpg", "another")
	p, err := w.Desk.Copies.PlanSync(ctx, s.ID, carry.Wish{To: carry.Live, Items: []string{"post:9001"}})
	require.NoError(t, err)
	assert.True(t, p.Blocked())
	assert.Contains(t, fmt.Sprint(p.Findings), "the other side has another file at wp-content/uploads/2027/11/fog-300.jpg")
	require.NoError(t, os.Remove(filepath.Join(live.Root, "wp-content/uploads/2027/11/fog-300.jpg")))
	p, r := carried(t, w, s, carry.Wish{To: carry.Live, Kinds: []string{"media"}})
	assert.Equal(t, 2, p.Files)
	for name, text := range map[string]string{"2027/11/fog.jpg": "fog", "2027/11/fog-300.jpg": "small fog"} {
		got, err := os.ReadFile(filepath.Join(live.Root, "wp-content/uploads", name))
		require.NoError(t, err)
		assert.Equal(t, text, string(got))
	}
	rep, err := w.Desk.Copies.Prove(ctx, s.ID, false, nil)
	require.NoError(t, err)
	assert.True(t, rep.Proof().Holds, rep.Summary())
	assert.Zero(t, rep.Apart.Copy+rep.Apart.Origin, "the sides have it in common: %+v", rep.Apart)
	undone(t, w, r.ID)
	rep, err = w.Desk.Copies.Prove(ctx, s.ID, false, nil)
	require.NoError(t, err)
	assert.Zero(t, rep.Apart.Origin, "nothing is left on the live site: %+v", rep.Apart)
	assert.Positive(t, rep.Apart.Copy, "and the copy has what it had: %+v", rep.Apart)
	for _, name := range []string{"fog.jpg", "fog-300.jpg"} {
		assert.NoFileExists(t, filepath.Join(live.Root, "wp-content/uploads/2027/11", name))
	}
	assert.Equal(t, "0", get(t, live, "SELECT CONCAT(COUNT(*)) FROM sk_posts WHERE ID = 9001"))
}

// A run that is killed at any moment goes on, or is taken back, and what is written is written once.
func TestCarryingKilledAndCancelledAtEachMoment(t *testing.T) {
	w, live, s := pair(t)
	w.Stop()
	id := somePage(t, live)
	for i, m := range []string{"look end", "keep end", "apply end", "prove end"} {
		t.Run(m, func(t *testing.T) {
			title := fmt.Sprint("Low tide ", i)
			on(t, s, fmt.Sprintf("UPDATE sk_posts SET post_title = '%s' WHERE ID = %s", title, id))
			wish := carry.Wish{To: carry.Live, Items: []string{"post:" + id}}
			killedAndCancelled(t, w, wished(w, s, wish), m, func() string { return rows(t, live) }, func(r plan.Run) {
				assert.Contains(t, r.Result, "1 row is as it should be")
				assert.Equal(t, title, get(t, live, "SELECT post_title FROM sk_posts WHERE ID = "+id))
			})
		})
	}
}

// wished plans to carry something.
func wished(w *realtest.World, s site.Site, wish carry.Wish) func() (plan.Plan, error) {
	return func() (plan.Plan, error) { return w.Desk.Copies.PlanSync(context.Background(), s.ID, wish) }
}

// killedAndCancelled has runs die at a moment: of one that is cancelled then nothing is left, one that is taken up
// ends, and undoing that leaves nothing either. is is what the live site has; no keeper is at work.
func killedAndCancelled(t *testing.T, w *realtest.World, make func() (plan.Plan, error), moment string,
	is func() string, done func(plan.Run)) {
	t.Helper()
	ctx, before := context.Background(), is()
	dies := func() plan.Run {
		p, err := make()
		require.NoError(t, err)
		r, err := w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
		require.NoError(t, err)
		demotest.KilledAt(t, w.World, moment)
		return r
	}
	r := dies()
	require.NoError(t, w.Desk.Workings().Queue.Cancel(ctx, r.ID))
	w.Keep()
	r, err := w.Desk.Runs.Await(ctx, r.ID, nil)
	require.NoError(t, err)
	require.Equal(t, plan.Cancelled, r.State, r.Error)
	w.Stop()
	assert.Equal(t, before, is(), "nothing of it is left")
	r = demotest.Resumed(t, w.World, dies().ID)
	done(r)
	w.Keep()
	undone(t, w, r.ID)
	w.Stop()
	assert.Equal(t, before, is(), "it is undone")
}

// What is declared of a plugin's table is carried like all else, under numbers of its own; and the declaration that is
// proposed for it says that.
func TestADeclaredTableIsCarried(t *testing.T) {
	ctx := context.Background()
	w, live, s := pair(t, "CREATE TABLE sk_tides (id INT PRIMARY KEY AUTO_INCREMENT, page_id INT, harbour VARCHAR(40)) "+
		"ENGINE=InnoDB", "INSERT INTO sk_tides SELECT NULL, ID, post_title FROM sk_posts WHERE post_type = 'page'",
		"INSERT INTO sk_postmeta (post_id, meta_key, meta_value) SELECT page_id, 'shown_page', page_id FROM sk_tides")
	text, err := w.Desk.Copies.Propose(ctx, live)
	require.NoError(t, err)
	for _, want := range []string{"[[table]]\nname = \"tides\"\nkind = \"tide\"\ntitle = \"harbour\"\n[table.refers]\n" +
		"page_id = \"posts\"\n", "[[field]]\nof = \"posts\"\nkey = \"shown_page\"\nrefers = \"posts\"\n"} {
		assert.Contains(t, text, want)
	}
	for _, side := range []site.Site{live, s} {
		name := string(side.Role)
		on(t, side, fmt.Sprintf(insertPost, 9001, "new", "Page of "+name, name, "x"),
			"INSERT INTO sk_tides VALUES (900, 9001, 'Ness of "+name+"')", "INSERT INTO sk_postmeta (post_id, meta_key, "+
				"meta_value) VALUES (9001, 'slides', 'a:2:{i:0;a:1:{s:5:\"image\";i:9001;}s:4:\"wide\";i:9001;}')")
	}
	dir := filepath.Join(w.Base, "declarations")
	require.NoError(t, os.MkdirAll(dir, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tides.toml"), []byte("colour = 1"), 0o600))
	_, err = w.Desk.Copies.Drift(ctx, s.ID)
	assert.ErrorContains(t, err, `tides.toml, line 1: there is nothing called "colour"`)
	text += "[[field]]\nof = \"posts\"\nkey = \"slides\"\nat = \"*.image\"\nrefers = \"posts\"\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tides.toml"), []byte(text), 0o600))
	assert.Contains(t, strings.Join(lines(drifted(t, w, s)), "\n"), `tide:900@copy tide "Ness of copy" copy made`)
	carried(t, w, s, carry.Wish{To: carry.Live, All: true})
	carried(t, w, s, carry.Wish{To: carry.Copy, All: true})
	const all = "SELECT GROUP_CONCAT(CONCAT_WS('|', t.id, page_id, harbour, post_title) ORDER BY t.id) FROM sk_tides t " +
		"JOIN sk_posts p ON p.ID = page_id WHERE t.id >= 900"
	assert.Equal(t, "900|9001|Ness of live|Page of live,901|9002|Ness of copy|Page of copy", get(t, live, all))
	assert.Equal(t, get(t, live, all), get(t, s, all))
	assert.Equal(t, `9001 a:2:{i:0;a:1:{s:5:"image";i:9001;}s:4:"wide";i:9001;}, `+
		`9002 a:2:{i:0;a:1:{s:5:"image";i:9002;}s:4:"wide";i:9001;}`, get(t, live, "SELECT GROUP_CONCAT(CONCAT(post_id, "+
		"' ', meta_value) ORDER BY post_id SEPARATOR ', ') FROM sk_postmeta WHERE meta_key = 'slides'"))
	assert.Empty(t, lines(drifted(t, w, s)))
}

// A setting that was taken away and made anew has another number, and is the same setting.
func TestASettingThatWasMadeAnewIsTheSame(t *testing.T) {
	w, live, s := pair(t, "INSERT INTO sk_options (option_name, option_value) VALUES ('fares', 'a:1:{s:1:\"a\";i:1;}'), "+
		"('berths', '4'), ('piers', '2')")
	anew := func(name, value string) []string {
		return []string{"DELETE FROM sk_options WHERE option_name = '" + name + "'",
			"INSERT INTO sk_options (option_name, option_value) VALUES ('" + name + "', '" + value + "')"}
	}
	on(t, live, append(anew("berths", "5"), anew("piers", "2")...)...)
	on(t, live, "INSERT INTO sk_options (option_name, option_value) VALUES ('both', 'live')")
	on(t, s, anew("fares", `a:1:{s:1:"a";i:2;}`)...)
	on(t, s, "INSERT INTO sk_options (option_name, option_value) VALUES ('other', 'copy'), ('both', 'copy')")
	for range 2 {
		for _, to := range []carry.Side{carry.Copy, carry.Live} {
			p, err := w.Desk.Copies.PlanSync(context.Background(), s.ID, carry.Wish{To: to, All: true,
				Take: map[string]carry.Side{"setting:both": carry.Live}})
			require.NoError(t, err)
			if !p.Blocked() {
				r := w.Run(p)
				require.Equal(t, plan.Done, r.State, r.Error)
			}
		}
	}
	assert.Empty(t, lines(drifted(t, w, s)))
	const all = "SELECT GROUP_CONCAT(CONCAT_WS('=', option_name, option_value) ORDER BY option_name) FROM sk_options " +
		"WHERE " +
		"option_name IN ('fares', 'berths', 'piers', 'both', 'other')"
	assert.Equal(t, `berths=5,both=live,fares=a:1:{s:1:"a";i:2;},other=copy,piers=2`, get(t, live, all))
	assert.Equal(t, get(t, live, all), get(t, s, all))
}
