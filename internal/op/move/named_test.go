package move_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
)

// Tables come to a database that a person names, which nobody else may have, with another collation; those that come
// back have theirs again.
func TestTablesComeToADatabaseThatIsNamed(t *testing.T) {
	f := newFerry(t)
	ctx := t.Context()
	const ours, theirs = "utf8mb4_unicode_520_ci", "utf8mb4_uca1400_ai_ci"
	word := filepath.Join(t.TempDir(), "word")
	require.NoError(t, os.WriteFile(word, []byte("made-up-word\n"), 0o600))
	admin := f.dock.Admin()
	require.NoError(t, admin.MakeDatabase(ctx, "berth", "utf8mb4", "utf8mb4_bin", tables.Account{Name: "berth",
		Password: "made-up-word", From: []string{"localhost"}}))
	db := admin.Open("berth", tables.Prefix{})
	exec := func(on tables.Writable, q string) {
		t.Helper()
		require.NoError(t, on.Exec(ctx, q))
	}
	old := mariadbtest.DB(f.from)
	exec(old, "CREATE TABLE sk_tides (port VARCHAR(20) PRIMARY KEY, at TEXT) CHARSET utf8mb4 COLLATE "+ours)
	exec(old, "INSERT INTO sk_tides VALUES ('Hythe', 'noon'), ('ärla', 'dusk')")
	exec(old, "CREATE VIEW sk_noon AS SELECT port FROM sk_tides WHERE at COLLATE "+ours+" = 'NOON'")
	before := schema(t, f.from)

	exec(db, "CREATE TABLE sk_posts (of_others INT)")
	m, err := f.Desk.Moves.Begin(ctx, desk.NewMove{Site: f.live.Site.ID, Host: "drydock", Root: f.root,
		Database: site.Database{Name: "berth", Server: f.dock.Server()}, PasswordFile: word,
		Collations: map[string]string{ours: theirs}})
	require.NoError(t, err)
	require.True(t, m.Survey.Blocked())
	assert.Equal(t, "full", m.Survey.Findings[0].Code)
	assert.Contains(t, m.Survey.Findings[0].Text, "sk_posts")
	f.name = m.Name
	exec(db, "DROP TABLE sk_posts")
	_, err = f.Desk.Moves.Collate(ctx, m.Name, map[string]string{ours: "utf8mb4_of_nobody"})
	require.NoError(t, err)
	require.True(t, f.now().Survey.Blocked(), "nobody knows that one")
	_, err = f.Desk.Moves.Collate(ctx, m.Name, map[string]string{ours: theirs})
	require.NoError(t, err)
	require.False(t, f.now().Survey.Blocked(), f.now().Survey.Findings)

	exec(db, "CREATE TABLE sk_posts (of_others INT)") // it came after the survey
	p, err := f.Desk.Moves.Plan(ctx, f.now(), plan.LegCarry)
	require.NoError(t, err)
	r := f.Run(p)
	assert.Equal(t, plan.Cancelled, r.State)
	assert.Contains(t, r.Error, "is not empty: it has 1 table, the first: sk_posts. Nothing was written to it")
	exec(db, "SELECT of_others FROM sk_posts")
	assert.NoFileExists(t, filepath.Join(f.root, "wp-config.php"))
	exec(db, "DROP TABLE sk_posts")

	f.gate(plan.LegCarry)
	is := func() tables.Schema {
		snap, err := db.Snapshot(ctx)
		require.NoError(t, err)
		defer snap.Close()
		return snap.Schema()
	}
	assert.NotContains(t, engines.Collations(is()), ours)
	assert.Contains(t, engines.Collations(is()), theirs)
	exec(old, "UPDATE sk_tides SET at = 'dawn' WHERE port = 'ärla'")
	f.gate(plan.LegCarry)
	f.gate(plan.LegCheck)
	require.True(t, f.now().Check.Holds, f.now().Check.Findings)
	f.gate(plan.LegSwitch)
	assert.Equal(t, "drydock", f.Site(f.live.Site.Name).Host)

	exec(db, "CREATE TABLE sk_buoys (name VARCHAR(20) PRIMARY KEY) CHARSET utf8mb4 COLLATE "+theirs)
	exec(db, "INSERT INTO sk_tides VALUES ('Noust', 'noon')")
	f.gate(plan.LegBack)
	after := schema(t, f.from)
	was, now := before.Definitions(), after.Definitions()
	assert.Equal(t, ours, now["table sk_buoys"]["collation"])
	delete(now, "table sk_buoys")
	for what, d := range now {
		assert.Empty(t, d.Unlike(was[what]), what)
	}
	assert.Len(t, now, len(was))
	text, err := mariadbtest.Text(f.from, "SELECT GROUP_CONCAT(port, ' ', at ORDER BY port) FROM sk_tides")
	require.NoError(t, err)
	assert.Contains(t, text, "ärla dawn")
	assert.Contains(t, text, "Noust noon")
}

func TestWhatArrivesTogetherIsAddedUp(t *testing.T) {
	m := begunMove(t)
	ctx := t.Context()
	first := m.now()
	_, err := m.Desk.Workings().Record.ChangeMove(ctx, m.name, func(m *plan.Move) error {
		m.Survey.Bytes = 1 << 60
		return nil
	})
	require.NoError(t, err)
	begin := func(site string) plan.Survey {
		is, err := m.Desk.Moves.Begin(ctx, desk.NewMove{Site: m.Site(site).ID, Host: "drydock", Root: "/var/www/" + site})
		require.NoError(t, err)
		return *is.Survey
	}
	second := begin("crew.skerryline.example")
	require.False(t, second.Blocked(), "it would have room alone")
	var codes []string
	for _, f := range second.Findings {
		codes = append(codes, f.Code)
		if f.Code == "disk" {
			assert.Contains(t, f.Text, "together with "+first.Name)
		}
	}
	assert.Contains(t, codes, "disk")
}
