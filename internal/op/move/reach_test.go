package move_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/host"
	"alibi/internal/inventory"
	"alibi/internal/op"
	"alibi/internal/op/keep"
	"alibi/internal/op/move"
	"alibi/internal/op/remove"
	"alibi/internal/op/reset"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
	"alibi/internal/tables"
)

// A site leaves a host that lets in files and nothing else, comes back, and leaves again: its database is reached
// through a relay, at a name that leads elsewhere in between.
func TestASiteLeavesAHostThatGivesFilesOnly(t *testing.T) {
	f := newFerry(t)
	ctx := t.Context()
	l := f.live
	f.world.Machine("moor", func(o *real.MachineOptions) { o.FilesOnly = true })
	require.NoError(t, f.Desk.Fleet.Forget(ctx, l.Site.ID))
	s, err := f.Desk.Fleet.AddSite(ctx, desk.NewSite{Host: "moor", Root: l.Spec.Root, Name: shop, Client: "Skerry Line",
		Relay: l.Spec.URL})
	require.NoError(t, err)
	f.leaves(s, true)
}

// A site of which only an administrator's account is known leaves too: files and tables are reached through what is
// uploaded by its own pages.
func TestASiteOfWhichOnlyAnAccountIsKnown(t *testing.T) {
	f := newFerry(t)
	ctx := t.Context()
	l := f.live
	require.NoError(t, f.Desk.Fleet.Forget(ctx, l.Site.ID))
	word := filepath.Join(t.TempDir(), "word")
	require.NoError(t, os.WriteFile(word, []byte("not that\n"), 0o600))
	h := inventory.Host{Name: "quay", Addr: strings.Replace(l.Spec.URL, "//", "//runa@", 1), At: "127.0.0.1",
		PasswordFile: word}
	err := f.Desk.Fleet.AddHost(ctx, h)
	require.ErrorIs(t, err, host.ErrAuth)
	assert.NotContains(t, err.Error(), "not that")
	require.NoError(t, os.WriteFile(word, []byte("made-up-password\n"), 0o600))
	require.NoError(t, f.Desk.Fleet.AddHost(ctx, h))
	s, err := f.Desk.Fleet.AddSite(ctx, desk.NewSite{Host: "quay", Name: shop, Client: "Skerry Line"})
	require.NoError(t, err)
	record := f.Desk.Workings().Record
	quay, err := record.Host(ctx, "quay")
	require.NoError(t, err)
	quay.At = ""
	require.NoError(t, record.PutHost(ctx, quay))
	assert.Equal(t, l.Spec.Root, s.Root, "the folder that its address shows")
	assert.Equal(t, l.Site.Facts.Files+1, s.Facts.Files, "the folder in which it unpacks plugins, and nothing of ours")
	assert.Equal(t, l.Site.Facts.Plugins, s.Facts.Plugins)
	assert.Equal(t, l.Site.Facts.Contents, s.Facts.Contents, "signing in begins no draft")
	f.leaves(s, false)
	quay, err = record.Host(ctx, "quay")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1", quay.At, "the name of its site led elsewhere")
}

// A site comes to a host that gives files only, where a relay reaches its database, and goes back.
func TestASiteComesToAHostThatGivesFilesOnly(t *testing.T) {
	f := newFerry(t)
	ctx := t.Context()
	f.world.Machine("quay", func(o *real.MachineOptions) { o.FilesOnly = true })
	require.NoError(t, f.dock.Admin().MakeDatabase(ctx, "berth", "utf8mb4", "utf8mb4_unicode_ci",
		tables.Account{Name: "berth", Password: "made up", From: []string{"localhost"}}))
	require.NoError(t, os.MkdirAll(f.root, 0o755))
	to := desk.NewMove{Site: f.live.Site.ID, Host: "quay", Root: f.root, Web: []string{"127.0.0.2"},
		PasswordFile: word(t, "made up"), Database: site.Database{Name: "berth", Server: f.dock.Server()}}

	m, err := f.Desk.Moves.Begin(ctx, to)
	require.NoError(t, err)
	i := slices.IndexFunc(m.Survey.Findings, func(x site.Finding) bool { return x.Code == "server" })
	require.GreaterOrEqual(t, i, 0)
	assert.Contains(t, m.Survey.Findings[i].Remedy, "--relay")
	require.NoError(t, f.Desk.Moves.Forget(ctx, m.Name))

	to.Relay = "not an address"
	_, err = f.Desk.Moves.Begin(ctx, to)
	require.ErrorContains(t, err, "can't be the address of a relay")
	to.Relay = f.live.Spec.URL
	f.serveThere()
	m, err = f.Desk.Moves.Begin(ctx, to)
	require.NoError(t, err)
	require.False(t, m.Survey.Blocked(), m.Survey.Findings)
	assert.Positive(t, m.Survey.PerFile, "files come one by one")
	f.name = m.Name
	v := f.visitors(2)
	f.gate(plan.LegCarry)
	f.owned(f.root)
	f.proven()
	f.gate(plan.LegSwitch)
	assert.Equal(t, to.Relay, f.Site(f.live.Site.Name).Relay)
	time.Sleep(2500 * time.Millisecond)
	f.gate(plan.LegBack)
	assert.Empty(t, f.Site(f.live.Site.Name).Relay)
	time.Sleep(2500 * time.Millisecond)
	v.end(t, mariadbtest.DB(f.from))
	f.gate(plan.LegClear)
	assert.Empty(t, schemaOf(t, f.dock.Admin().Open("berth", tables.Prefix{})).Tables)
	left, err := os.ReadDir(f.root)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// leaves moves a site to drydock while visitors order, with again back and there once more, and clears up.
func (f *ferry) leaves(s site.Site, again bool) {
	t, ctx, l := f.t, f.t.Context(), f.live
	l.Site = s
	f.begin()
	v := f.visitors(2)
	m, err := f.Desk.Moves.Survey(ctx, f.name)
	require.NoError(t, err)
	assert.Positive(t, m.Survey.PerFile, "files come one by one")
	first := move.PlanPass(move.Input{Site: s, Place: s, Move: m})
	assert.Greater(t, first.Estimate.High, time.Duration(m.Survey.Files)*m.Survey.PerFile)
	f.ready()
	f.gate(plan.LegSwitch)
	now := f.Site(f.live.Site.Name)
	assert.Equal(t, "drydock", now.Host)
	assert.Empty(t, now.Relay, "its database is reached at the new place")
	if again {
		time.Sleep(2500 * time.Millisecond)
		f.gate(plan.LegBack)
		assert.Equal(t, s.Relay, f.Site(s.Name).Relay)
		time.Sleep(2500 * time.Millisecond)
		f.gate(plan.LegSwitch)
	}
	for _, w := range f.now().Switches {
		t.Logf("held for %s", w.Held)
	}
	time.Sleep(2500 * time.Millisecond)
	now = f.Site(f.live.Site.Name)
	v.end(t, f.dock.Admin().Open(now.Database.Name, tables.Prefix{}))

	_, err = f.Desk.Workings().Record.ChangeMove(ctx, f.name, func(m *plan.Move) error {
		last := &m.Switches[len(m.Switches)-1]
		last.At = last.At.Add(-2 * time.Hour) // former answers are over
		return nil
	})
	require.NoError(t, err)
	m, err = f.Desk.Moves.Watch(ctx, f.name)
	require.NoError(t, err)
	require.True(t, m.Watch.Done, "%+v", m.Watch)
	for kind, name := range map[string]string{op.ReadingRelay: l.Spec.Root + "/alibi-relay-left.php",
		op.BroughtRelay: "alibi-relay-left.php"} {
		if !again || kind != op.BroughtRelay {
			require.NoError(t, f.Desk.Workings().Record.AddMade(ctx, inventory.Made{Kind: kind, Host: s.Host, Path: name,
				At: time.Now()}))
		}
	}
	f.gate(plan.LegClear)
	assert.Empty(t, schema(t, f.from).Tables, "nothing is left on the old host")
	rest, err := f.Desk.Fleet.Leftovers(ctx)
	require.NoError(t, err)
	rest = slices.DeleteFunc(rest, func(x remove.Leftover) bool { return !strings.HasSuffix(x.Kind, "relay") })
	assert.Empty(t, rest, "also of what a process left that was killed")
	left, err := os.ReadDir(l.Spec.Root)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// schema is that of a database as its server has it.
func schema(t *testing.T, database string) tables.Schema {
	t.Helper()
	return schemaOf(t, mariadbtest.DB(database))
}

func schemaOf(t *testing.T, db tables.Database) tables.Schema {
	t.Helper()
	snap, err := db.Snapshot(t.Context())
	require.NoError(t, err)
	defer snap.Close()
	return snap.Schema()
}

func TestASiteThatIsThereIsWrittenOverAndKept(t *testing.T) {
	f := newFerry(t)
	ctx := t.Context()
	require.NoError(t, os.MkdirAll(filepath.Dir(f.root), 0o755))
	other := f.world.Make("crew", func(s *real.Spec) {
		s.Host, s.Root, s.Server, s.Admin = "drydock", f.root, f.dock.Server(), f.dock.Admin()
	})
	_, err := f.Desk.Moves.Begin(ctx, desk.NewMove{Site: f.live.Site.ID, Host: "drydock", Root: f.root})
	assert.ErrorContains(t, err, "stands in "+f.root, "a site of the record is not written over")
	require.NoError(t, f.Desk.Fleet.Forget(ctx, other.ID))
	config, err := os.ReadFile(filepath.Join(f.root, "wp-config.php"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(f.root, "of-the-crew.txt"), []byte("ours"), 0o644))
	m := f.begin()
	assert.True(t, m.Own && m.Over && !m.Server)
	f.ready()
	now, err := os.ReadFile(filepath.Join(f.root, "wp-config.php"))
	require.NoError(t, err)
	assert.Equal(t, string(config), string(now), "it keeps its own configuration")
	assert.NoFileExists(t, filepath.Join(f.root, "of-the-crew.txt"))
	points, _, err := f.Desk.Points.Points(ctx, m.Place)
	require.NoError(t, err)
	require.Len(t, points, 1, "what was there is kept")
	assert.Contains(t, points[0].Why, "comes there")
	v := f.visitors(1)
	f.gate(plan.LegSwitch)
	time.Sleep(2500 * time.Millisecond)
	v.end(t, f.dock.Admin().Open(f.Site(f.live.Site.Name).Database.Name, tables.Prefix{}))
}

func TestRestorePointsFromBeforeAMove(t *testing.T) {
	m := begunMove(t)
	m.Keep()
	ctx := t.Context()
	s := m.Site(shop)
	p, err := m.Desk.Points.PlanKeep(ctx, s.ID, keep.Choices{Kind: depot.ByHand})
	require.NoError(t, err)
	require.Equal(t, plan.Done, m.Run(p).State)
	m.gate(plan.LegCarry)
	m.gate(plan.LegCheck)
	_, err = m.Desk.Moves.Lower(ctx, m.name, shop)
	require.NoError(t, err)
	m.overdue()
	m.gate(plan.LegSwitch)
	point, err := m.Desk.Points.FindPoint(ctx, shop)
	require.NoError(t, err)
	back, err := m.Desk.Points.PlanRestore(ctx, point, reset.Choices{Files: true, Database: true})
	require.NoError(t, err)
	assert.True(t, back.Blocked(), "it is of another folder")
	assert.Equal(t, "moved", back.Findings[0].Code)
	m.gate(plan.LegBack)
	back, err = m.Desk.Points.PlanRestore(ctx, point, reset.Choices{Files: true, Database: true})
	require.NoError(t, err)
	assert.False(t, back.Blocked(), "it stands there again")
}
