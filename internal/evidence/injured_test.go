package evidence_test

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
	"alibi/internal/evidence"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
)

// ward is a site of one engine into whose copy injuries are planted.
type ward struct {
	w       *demotest.World
	engine  string
	live    site.Site
	root    string // of the origin
	run     func(s site.Site, statements ...string)
	account string
}

func (x ward) statements(i injury) []string {
	if x.engine == "sqlite" {
		return i.lite
	}
	return i.mysql
}

// prepare makes what injuries change, on the origin.
func (x ward) prepare(t *testing.T) {
	fill := filler(0, x.live, x.account)
	setup := []string{
		"CREATE TABLE @Pparent (id INT UNSIGNED PRIMARY KEY AUTO_INCREMENT, n INT)",
		"CREATE TABLE @Pvalues (id INT PRIMARY KEY, title VARCHAR(80), v LONGTEXT)",
		"CREATE TABLE @Pkeyless (a VARCHAR(20), b INT)", "CREATE TABLE @Pmerged (n INT) ENGINE=MyISAM",
		"CREATE TABLE @Ptypes (id INT PRIMARY KEY, b VARBINARY(9), f DOUBLE, bits BIT(3), words SET('a','b'), d " +
			"DECIMAL(9,3), t DATETIME(3))",
		"CREATE FUNCTION @Pf_gone (a INT) RETURNS INT DETERMINISTIC RETURN a",
		"CREATE TRIGGER @Pt_gone BEFORE DELETE ON @Pparent FOR EACH ROW SET @a = 1",
		"CREATE TRIGGER @Pt_other BEFORE UPDATE ON @Pparent FOR EACH ROW SET NEW.n = 1",
		"INSERT INTO @Pkeyless VALUES ('five', 5), ('twin', 2), ('twin', 2)",
	}
	for i := range 6 {
		setup = append(
			setup,
			fmt.Sprintf("INSERT INTO @Ptypes VALUES (%d, x'00FF01', 0.3, b'100', 'a,b', 9.990, '2027-03-14 05:06:07')",
				i+1),
		)
	}
	own := ownTable
	if x.engine == "sqlite" {
		own = ownLite
		setup = []string{
			"CREATE TABLE @Pparent (id INTEGER PRIMARY KEY, n INT)",
			"CREATE TABLE @Pvalues (id INTEGER PRIMARY KEY, title TEXT, v TEXT)",
			"CREATE INDEX @Pi_gone ON @Pparent (id)",
			"CREATE TRIGGER @Pt_gone AFTER DELETE ON @Pparent BEGIN SELECT 1; END",
			"CREATE TRIGGER @Pt_other AFTER INSERT ON @Pparent BEGIN DELETE FROM @Pparent WHERE id = 7; END",
		}
	}
	setup = append(
		setup,
		"CREATE VIEW @Pv_gone AS SELECT 1 AS one",
		"CREATE VIEW @Pv_other AS SELECT 1 AS one",
		"INSERT INTO @Pvalues VALUES (901, 'gone', 'x'), (902, 'moved', 'x'), (903, 'places', 'first'), (904, "+
			"'places', 'second')",
		`INSERT INTO @Pvalues VALUES (905, 'length', 'a:1:{i:0;s:5:"ferry";}'), (906, 'cut', 'a:1:{i:0;s:5:"ferry";}')`,
	)
	for n, i := range allInjuries {
		fill := filler(n, x.live, x.account)
		if strings.Contains(strings.Join(x.statements(i), " "), "@T") {
			setup = append(setup, fill(own), fill("INSERT INTO @T (id, slug) VALUES (1, 'a')"))
		}
		if i.first != "" && x.statements(i) != nil {
			setup = append(setup, fill("INSERT INTO @Pvalues VALUES (@ROW, '"+i.kind+"', "+i.first+")"))
		}
	}
	for i := range setup {
		setup[i] = fill(setup[i])
	}
	x.run(x.live, setup...)
	require.NoError(t, os.MkdirAll(filepath.Join(x.root, "wp-content"), 0o755))
	ownFiles(t, x.root)
}

// plant injures a copy in every way that its engine knows, and gives the injuries.
func (x ward) plant(t *testing.T, s site.Site) (planted []injury) {
	for n, i := range allInjuries {
		fill := filler(n, x.live, x.account)
		list := x.statements(i)
		if list == nil && i.file == nil {
			continue
		}
		if i.file != nil {
			i.file(t, s.Root)
		}
		for _, q := range list {
			x.run(s, fill(q))
		}
		i.check, i.says = fill(i.check), fill(i.says)
		planted = append(planted, i)
	}
	return planted
}

// seen wants a report to say each injury, and to say it as it should.
func seenAll(t *testing.T, planted []injury, checks map[string]evidence.Check, verdict func(injury) evidence.Verdict) {
	t.Helper()
	for _, i := range planted {
		c, there := checks[i.check]
		if !assert.True(t, there, "%s: there is no check %q", i.kind, i.check) {
			continue
		}
		assert.Equal(t, verdict(i), c.Verdict, "%s: %s %v", i.kind, c.Text, c.Where)
		assert.True(t, strings.Contains(strings.Join(c.Where, "\n"), i.says), "%s: %q is not said by %s:\n%s", i.kind,
			i.says, i.check, strings.Join(c.Where, "\n"))
	}
}

func (x ward) examine(t *testing.T) {
	x.prepare(t)
	w := x.w
	_, err := w.Desk.Fleet.Inspect(context.Background(), x.live.ID)
	require.NoError(t, err)
	w.Keep()
	s := w.Copy(x.live.Name, "injured")
	_, rep := prove(t, w, s, true)
	require.True(t, rep.Proof().Holds, "sound at first: %+v", rep.Checks)
	assert.Zero(t, rep.Apart.Copy+rep.Apart.Origin, "nothing changed yet: %+v", rep.Checks)
	x.account = fmt.Sprintf("'%s'@'localhost'", s.Database.User)
	planted := x.plant(t, s)
	checks, _ := prove(t, w, s, false)
	seenAll(t, planted, checks, func(i injury) evidence.Verdict {
		if i.plain != "" {
			return evidence.Verdict(i.plain)
		}
		return evidence.Changed
	})
	checks, rep = prove(t, w, s, true)
	assert.False(t, rep.Proof().Holds)
	seenAll(t, planted, checks, func(injury) evidence.Verdict { return evidence.Broken })
	t.Logf("%d kinds of injuries on %s", len(planted), x.engine)
}

func TestInjuriesOfARealCopyAreSeen(t *testing.T) {
	w := realtest.New(t, realtest.Options{})
	live := w.Make("ferry")
	x := ward{w: w.World, engine: "mysql", live: live, root: live.Root, run: func(s site.Site, statements ...string) {
		t.Helper()
		db := mariadbtest.DB(s.Database.Name)
		for _, q := range statements {
			require.NoError(t, db.Exec(context.Background(), q), q)
		}
	}}
	x.examine(t)
}

func TestInjuriesOfACopyOnSQLiteAreSeen(t *testing.T) {
	w := demotest.New(t)
	live := w.Site(origin)
	root := w.Dir("pier", "/srv/skerryline/public")
	x := ward{w: w, engine: "sqlite", live: live, root: root, run: func(s site.Site, statements ...string) {
		t.Helper()
		path := s.Database.Path
		if s.Role == site.Live {
			path = filepath.Join(root, "wp-content/database/.ht.sqlite")
		}
		exec(t, path, statements...)
	}}
	x.examine(t)
}

// written is the injury's row in the table of docs/evidence.md.
func (i injury) written() string {
	var on []string
	if i.mysql != nil || i.file != nil {
		on = append(on, "MariaDB")
	}
	if i.lite != nil || i.file != nil {
		on = append(on, "SQLite")
	}
	check := strings.NewReplacer("@P", "sk_").Replace(i.check)
	verdict := i.plain
	if verdict == "" {
		verdict = "changed"
	}
	return fmt.Sprintf("| %s | %s | %s | %s |", i.kind, strings.Join(on, ", "), check, verdict)
}

func TestEachInjuryIsInTheDocuments(t *testing.T) {
	text, err := os.ReadFile("../../docs/evidence.md")
	require.NoError(t, err)
	for _, i := range allInjuries {
		assert.Contains(t, string(text), i.written()+"\n")
	}
	assert.Contains(t, string(text), fmt.Sprintf("%d kinds of injuries", len(allInjuries)))
}
