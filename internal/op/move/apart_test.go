package move_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/desk"
	"alibi/internal/host"
	"alibi/internal/op/move"
	"alibi/internal/plan"
)

// all is what is in a folder, by path.
func all(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, e os.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() && !host.Passing(e.Name()) {
			var b []byte
			b, err = os.ReadFile(p)
			out[p] = string(b)
		}
		return err
	}))
	return out
}

// isOne goes through a gate at which it is seen that both places are one, though the survey did not.
func (m moving) isOne(leg string) {
	m.t.Helper()
	_, err := m.Desk.Workings().Record.ChangeMove(m.t.Context(), m.name, func(is *plan.Move) error {
		is.Survey.Findings = nil
		return nil
	})
	require.NoError(m.t, err)
	p, err := m.Desk.Moves.Plan(m.t.Context(), m.now(), leg)
	require.NoError(m.t, err)
	r := m.Run(p)
	require.NotEqual(m.t, plan.Done, r.State)
	assert.Contains(m.t, r.Error, move.ErrOne.Error())
}

// word is a file with a password.
func word(t *testing.T, password string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "word")
	require.NoError(t, os.WriteFile(name, []byte(password+"\n"), 0o600))
	return name
}

// The machine on which a site stands is in the record by another name too: nothing is brought onto the site itself or
// into its folder, and nothing of it removed.
func TestBothPlacesAreOneByAnotherName(t *testing.T) {
	f := newFerry(t)
	ctx := t.Context()
	f.world.Machine("moor", func(o *real.MachineOptions) { o.FilesOnly = true })
	was, rows := all(t, f.live.Spec.Root), schema(t, f.from)
	for _, root := range []string{f.live.Spec.Root, filepath.Join(f.live.Spec.Root, "wp-content", "next")} {
		m, err := f.Desk.Moves.Begin(ctx, desk.NewMove{Site: f.live.Site.ID, Host: "moor", Root: root,
			Relay: f.live.Spec.URL, PasswordFile: word(t, f.live.Spec.Password), Database: f.live.Site.Database})
		require.NoError(t, err)
		assert.Equal(t, root == f.live.Spec.Root, m.Own)
		f.name = m.Name
		f.isOne(plan.LegCarry)
		passes := func(list ...plan.Carried) {
			_, err = f.Desk.Workings().Record.ChangeMove(ctx, f.name, func(m *plan.Move) error {
				m.Passes = list
				return nil
			})
			require.NoError(t, err)
		}
		if m.Own {
			passes(plan.Carried{})
			f.isOne(plan.LegClear)
			passes()
		}
		require.NoError(t, f.Desk.Moves.Forget(ctx, f.name))
		assert.Equal(t, was, all(t, f.live.Spec.Root))
		assert.NoDirExists(t, filepath.Join(f.live.Spec.Root, "wp-content", "next"))
		assert.Equal(t, rows.Tables, schema(t, f.from).Tables)
	}
}

// A site is there whose configuration names the live site's own database: it is not written to.
func TestTheDatabaseThereIsTheSitesOwn(t *testing.T) {
	f := newFerry(t)
	ctx := t.Context()
	require.NoError(t, os.MkdirAll(f.root, 0o755))
	for p, text := range all(t, f.live.Spec.Root) {
		to := filepath.Join(f.root, strings.TrimPrefix(p, f.live.Spec.Root))
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		require.NoError(t, os.WriteFile(to, []byte(text), 0o644))
	}
	m, err := f.Desk.Moves.Begin(ctx, desk.NewMove{Site: f.live.Site.ID, Host: "drydock", Root: f.root})
	require.NoError(t, err)
	assert.True(t, m.Survey.Blocked(), m.Survey.Findings)
	assert.Equal(t, "one-database", m.Survey.Findings[0].Code)
	f.name = m.Name
	was := schema(t, f.from)
	f.isOne(plan.LegCarry)
	assert.Equal(t, was.Tables, schema(t, f.from).Tables)
}
