package evidence_test

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo"
	"alibi/internal/demo/demotest"
	"alibi/internal/evidence"
	"alibi/internal/site"
	"alibi/internal/tables"
)

const origin = "https://skerryline.example"

func exec(t *testing.T, path string, statements ...string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)")
	require.NoError(t, err)
	defer db.Close()
	for _, s := range statements {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
}

func prove(t *testing.T, w *demotest.World, s site.Site, strict bool) (map[string]evidence.Check, *evidence.Report) {
	t.Helper()
	rep, err := w.Desk.Copies.Prove(context.Background(), s.ID, strict, nil)
	require.NoError(t, err)
	m := map[string]evidence.Check{}
	for _, c := range rep.Checks {
		m[c.Name] = c
	}
	return m, rep
}

// seenBy names the check that must find each kind of damage.
var seenBy = map[string]string{
	"row-changed": "table sk_posts", "row-missing": "table sk_posts", "row-extra": "table sk_terms",
	"table-missing": "schema", "index-missing": "schema", "address-left": "addresses in tables",
	"serialized": "serialized", "file-changed": "files", "file-missing": "files", "file-extra": "files",
	"pages-dead": "pages", "database-damaged": "database", "shared-database": "isolation",
}

func TestEachDamageIsSeen(t *testing.T) {
	t.Cleanup(tables.InShardsOf(7)) // a table is compared in parts
	for _, kind := range strings.Split(demo.SpoilKinds(), ", ") {
		t.Run(kind, func(t *testing.T) {
			check := seenBy[kind]
			require.NotEmpty(t, check, "say which check sees this damage")
			w := demotest.New(t)
			w.Keep()
			s := w.Copy(origin, "spoilt")
			sound, rep := prove(t, w, s, true)
			require.True(t, rep.Proof().Holds, "sound at first: %s", rep.Summary())
			if c, ok := sound[check]; ok {
				require.Equal(t, evidence.Holds, c.Verdict)
			}
			require.NoError(t, w.Spoil(kind, s))
			found, rep := prove(t, w, s, true)
			assert.False(t, rep.Proof().Holds)
			assert.Equal(t, evidence.Broken, found[check].Verdict, "%+v", found[check])
			assert.False(t, w.Site("spoilt").Proof.Holds, "the board knows")
		})
	}
	assert.Error(t, (&demo.World{}).Spoil("no-such-way", site.Site{}))
}

func TestWorkOnEitherSideIsToldApart(t *testing.T) {
	t.Cleanup(tables.InShardsOf(7)) // a table is compared in parts
	w := demotest.New(t)
	w.Keep()
	s := w.Copy(origin, "worked")
	live := w.Dir("pier", "/srv/skerryline/public")
	exec(t, s.Database.Path, "UPDATE sk_posts SET post_title = 'mine' WHERE ID IN (5, 6)",
		"INSERT INTO sk_posts (post_title) VALUES ('new here')", "DELETE FROM sk_comments WHERE comment_ID = 1")
	exec(t, filepath.Join(live, "wp-content/database/.ht.sqlite"),
		"UPDATE sk_posts SET post_title = 'theirs' WHERE ID IN (6, 7)",
		"INSERT INTO sk_terms (name, slug) VALUES ('there', 'there')")
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, "wp-content/mine.css"), []byte("x"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(live, "wp-content/theirs.css"), []byte("x"), 0o644))
	found, rep := prove(t, w, s, false)
	assert.True(t, rep.Proof().Holds, "work is no damage: %s", rep.Summary())
	assert.Equal(t, evidence.Changed, found["table sk_posts"].Verdict)
	assert.Contains(t, found["table sk_posts"].Text, "2 rows changed on the origin, 3 on the copy")
	assert.Contains(t, found["files"].Text, "1 changed on the origin, 1 on the copy")
	// On the copy: two posts changed, one new, one comment gone, a file. On the
	// origin: two posts, a term, a file. The counters of the tables are no work.
	assert.Equal(t, 5, rep.Apart.Copy)
	assert.Equal(t, 4, rep.Apart.Origin)
	assert.Equal(t, 1, rep.Apart.Clashes, "post 6")
	apart, err := w.Desk.Copies.Apart(context.Background(), s.ID)
	require.NoError(t, err)
	assert.Equal(t, rep.Apart.Copy, apart.Copy, "counting alone gives the same")
	_, rep = prove(t, w, s, true)
	assert.False(t, rep.Proof().Holds, "strictly, every difference counts")
}

func TestWhatWasBrokenBeforeIsListedAndNoDamage(t *testing.T) {
	t.Cleanup(tables.InShardsOf(7)) // a table is compared in parts
	w := demotest.New(t)
	w.Keep()
	s := w.Copy("crew.skerryline.example", "crewed")
	found, rep := prove(t, w, s, true)
	assert.True(t, rep.Proof().Holds)
	kept := found["kept"]
	assert.Equal(t, evidence.Noted, kept.Verdict)
	require.NotEmpty(t, kept.Where)
	assert.Contains(t, kept.Where[0], "sk_options, row")
	assert.Contains(t, kept.Where[0], "option_value")
	assert.Contains(t, found["serialized"].Origin, "1 broken there already")
}

func TestAnAddressInAFileIsNoted(t *testing.T) {
	w := demotest.New(t)
	require.NoError(t, os.WriteFile(w.Dir("pier", "/srv/skerryline/public/wp-content/app.js"),
		[]byte("fetch('https://skerryline.example/x')"), 0o644))
	w.Keep()
	found, rep := prove(t, w, w.Copy(origin, "scripted"), true)
	assert.True(t, rep.Proof().Holds)
	assert.Equal(t, evidence.Noted, found["addresses in files"].Verdict)
	assert.Equal(t, []string{"wp-content/app.js (1)"}, found["addresses in files"].Where)
}

func TestSummaries(t *testing.T) {
	r := evidence.Report{
		Rows:   31204,
		Files:  4112,
		Checks: []evidence.Check{{Verdict: evidence.Holds}, {Verdict: evidence.Noted}},
	}
	assert.Equal(t, "evidence holds: 31,204 rows, 4,112 files, 2 checks", r.Summary())
	r.Checks = append(r.Checks, evidence.Check{Verdict: evidence.Broken})
	assert.Equal(t, "1 of 3 checks do not hold", r.Summary())
	assert.Equal(t, 1, r.Proof().Broken)
}
