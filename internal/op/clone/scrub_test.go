package clone_test

import (
	"bytes"
	"context"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/evidence"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
	"alibi/internal/tables/engines"
)

// buyers puts people into a live site, in every way in which sites keep them.
func buyers(t *testing.T, s site.Site) {
	t.Helper()
	for _, q := range []string{
		`UPDATE sk_users SET display_name='Runa Tidewell', user_email='runa.tidewell@islands.example' WHERE ID=1`,
		`INSERT INTO sk_usermeta (user_id, meta_key, meta_value) VALUES (1, 'billing_address_1', '12 Kelp Lane'), (1,
			'billing_phone', '+44 555 0172 33'), (1, 'last_name', 'Tidewell')`,
		`INSERT INTO sk_postmeta (post_id, meta_key, meta_value) VALUES (1, '_order_note',
			'a:2:{s:3:"who";s:13:"Runa Tidewell";s:4:"mail";s:29:"Runa.Tidewell@islands.example";}')`,
		`INSERT INTO sk_options (option_name, option_value) VALUES ('quay_last',
			'{"to":"runa.tidewell@islands.example","at":"12 Kelp Lane"}')`,
		`UPDATE sk_posts SET post_content=CONCAT(post_content,
			' By Runa Tidewell, runa.tidewell@islands.example, +44 555 0172 33.') WHERE ID=1`,
		`CREATE TABLE sk_seat_orders (id INT PRIMARY KEY, full_name VARCHAR(80), email VARCHAR(80), note TEXT)`,
		`INSERT INTO sk_seat_orders VALUES (1, 'Runa Tidewell', 'runa.tidewell@islands.example',
			'Runa Tidewell sits at the bow'), (2, 'Odd Brimstead', 'odd@harbour.example', 'window')`,
	} {
		require.NoError(t, mariadbtest.DB(s.Database.Name).Exec(context.Background(), q), q)
	}
}

// text reads all that stands in a database.
func text(t *testing.T, name string) []byte {
	t.Helper()
	ctx := context.Background()
	snap, err := mariadbtest.DB(name).Snapshot(ctx)
	require.NoError(t, err)
	defer snap.Close()
	var b bytes.Buffer
	require.NoError(t, engines.Dump(ctx, snap, &b))
	return b.Bytes()
}

func check(t *testing.T, rep *evidence.Report, name string) evidence.Check {
	t.Helper()
	i := slices.IndexFunc(rep.Checks, func(c evidence.Check) bool { return c.Name == name })
	require.GreaterOrEqual(t, i, 0, "%v", rep.Checks)
	return rep.Checks[i]
}

func TestPeopleAreMadeUpOnACopy(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	buyers(t, live)
	w.Keep()
	ctx := context.Background()
	was := text(t, live.Database.Name)
	s := clonetest.CopyOf(w, live, "nobody", func(c *clone.Choices) { c.Scrub = "on" })
	require.True(t, s.Scrubbed)
	assert.Equal(t, was, text(t, live.Database.Name), "the live site is what it was")
	now := bytes.ToLower(text(t, s.Database.Name))
	for _, x := range []string{"tidewell", "odd brimstead", "odd@harbour", "islands.example", "kelp lane", "555 0172"} {
		assert.NotContains(t, string(now), x)
	}
	reps, err := w.Desk.Copies.Reports(ctx, s.ID, 1)
	require.NoError(t, err)
	assert.True(t, reps[0].Proof().Holds, "%v", reps[0].Checks)
	c := check(t, &reps[0], "personal")
	assert.Contains(t, c.Copy, "none found")
	assert.Regexp(t, `\d+ mail addresses, \d+ names, 1 phone`, c.Origin)
	_, err = w.Desk.Copies.Latchkey(ctx, s.ID, "")
	require.NoError(t, err, "a key signs in, though no password does")

	// Brought in line again, new people too; and damage is found.
	require.NoError(t, mariadbtest.DB(live.Database.Name).Exec(ctx,
		`INSERT INTO sk_seat_orders VALUES (3, 'Una Saltmarsh', 'una@harbour.example', '')`))
	require.NoError(t, mariadbtest.DB(live.Database.Name).Exec(ctx,
		`UPDATE sk_posts SET post_title='With Una Saltmarsh' WHERE ID=1`))
	p, err := w.Desk.Copies.PlanRefresh(ctx, s.ID)
	require.NoError(t, err)
	r := w.Run(p)
	require.Equal(t, plan.Done, r.State, r.Error)
	s = w.Site("nobody")
	assert.NotContains(t, string(bytes.ToLower(text(t, s.Database.Name))), "saltmarsh")
	require.NoError(t, mariadbtest.DB(s.Database.Name).Exec(ctx,
		`UPDATE sk_posts SET post_title='Una Saltmarsh was here' WHERE ID=1`))
	rep, err := w.Desk.Copies.Prove(ctx, s.ID, false, nil)
	require.NoError(t, err)
	c = check(t, rep, "personal")
	assert.Equal(t, evidence.Broken, c.Verdict)
	assert.Contains(t, c.Where[0], "sk_posts, row 1, post_title")
}
