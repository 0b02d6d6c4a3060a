package mysql_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
)

// odd is a schema with everything that databases of real sites are known to hold.
var odd = []string{
	"SET NAMES utf8mb4",
	`CREATE TABLE kinds (
		id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, ti TINYINT, si SMALLINT, mi MEDIUMINT, bi BIGINT,
			bu BIGINT UNSIGNED, de DECIMAL(40,10), fl FLOAT, do DOUBLE,
		bt BIT(9), zf INT(8) ZEROFILL, da DATE, dt DATETIME(6),
			ts TIMESTAMP NULL DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP, tm TIME(3), ye YEAR,
		ch CHAR(10), vc VARCHAR(200), bn BINARY(6), vb VARBINARY(300), en ENUM('a','b c','it''s') ,
			st SET('x','y','z'), tx TEXT, lt LONGTEXT, bl LONGBLOB, js JSON,
		l1 VARCHAR(300) CHARACTER SET latin1 COLLATE latin1_german1_ci, u2 VARCHAR(50) CHARACTER SET ucs2,
			u16 TEXT CHARACTER SET utf16, gb VARCHAR(20) CHARACTER SET gbk, po POINT,
		gv VARCHAR(20) AS (CONCAT('v', ti)) VIRTUAL, gs INT AS (ti + 1) STORED,
		KEY pre (tx(10)), FULLTEXT KEY ft (lt), UNIQUE KEY (vc(50)), KEY (gs)
	) ENGINE=InnoDB AUTO_INCREMENT=500 DEFAULT CHARSET=utf8mb4 COMMENT='it''s odd'`,
	"CREATE TABLE parent (id INT PRIMARY KEY) ENGINE=InnoDB",
	"CREATE TABLE a_child (id INT PRIMARY KEY, p INT, CONSTRAINT to_parent FOREIGN KEY (p) REFERENCES parent (id) ON " +
		"DELETE CASCADE) ENGINE=InnoDB",
	"CREATE TABLE parts (id INT, at DATE NOT NULL, PRIMARY KEY (id, at)) ENGINE=InnoDB PARTITION BY RANGE (YEAR(at)) " +
		"(PARTITION p0 VALUES LESS THAN (2020), PARTITION p1 VALUES LESS THAN MAXVALUE)",
	"CREATE TABLE keyless (v VARCHAR(50), KEY (v)) ENGINE=MyISAM",
	"CREATE TABLE textkey (k VARCHAR(60) CHARACTER SET latin1 COLLATE latin1_swedish_ci, n INT NOT NULL, v TEXT, " +
		"PRIMARY KEY (k, n))",
	"CREATE TABLE uniquely (a VARCHAR(20) NOT NULL, b INT NULL, UNIQUE KEY ub (b), UNIQUE KEY ua (a))",
	"CREATE TABLE `with blank \"and``tick'` (`a b'c` INT, `ünï` TEXT, PRIMARY KEY (`a b'c`))",
	"CREATE TABLE seen (n INT PRIMARY KEY AUTO_INCREMENT, what VARCHAR(50))",
	"CREATE VIEW by_name AS SELECT id, vc AS v, 'it''s `@DB@`.x' AS lit FROM `@DB@`.kinds",
	"CREATE VIEW a_view_on_view AS SELECT COUNT(*) AS n FROM by_name",
	"CREATE TRIGGER watch BEFORE UPDATE ON parent FOR EACH ROW INSERT INTO `@DB@`.seen (what) VALUES (CONCAT('parent " +
		"', NEW.id))",
	"CREATE FUNCTION twice (x INT) RETURNS INT DETERMINISTIC RETURN x * 2",
	"CREATE PROCEDURE sweep () BEGIN DELETE FROM seen WHERE n < twice(2); /* DEFINER=`x`@`y` stays */ END",
	"CREATE EVENT nightly ON SCHEDULE EVERY 1 DAY STARTS '2030-01-01 00:00:00' ENABLE DO DELETE FROM seen",
}

// oddRows fill it.
var oddRows = []string{
	`INSERT INTO kinds (ti, si, mi, bi, bu, de, fl, do, bt, zf, da, dt, ts, tm, ye, ch, vc, bn, vb, en, st, tx, lt,
		bl, js, l1, u2, u16, gb, po) VALUES
		(-128, 32767, -8388608, -9223372036854775808, 18446744073709551615,
			123456789012345678901234567890.0123456789, 0.1, 0.1, b'101010101', 42, '0000-00-00',
			'2026-02-30 10:00:00.123456', '2026-07-01 00:30:00', '-838:59:59.000', 2026,
		'pad  ', 'é東🚢', x'00FF0A0D27', 'x', 'it''s', 'x,z', 'tick '' " \\ end', 'full text', x'00',
		'{"a": [1, "\\u00e9"]}', 'gr\u00fcn', 'ωμέγα', 'сіль https://skerry.example', '船', ST_GeomFromText('POINT(1 2)'))`,
	"INSERT INTO kinds (id, vc, tx) VALUES (0, '', NULL), (7, 'x', '')",
	"INSERT INTO kinds (id, vc, en, fl, do) VALUES (8, 'err', 0, 16777216.7, 1e308)",
	"INSERT INTO parent VALUES (1), (2)", "INSERT INTO a_child VALUES (1, 2), (2, NULL), (3, 99)",
	"INSERT INTO parts VALUES (1, '2019-05-05'), (1, '2024-05-05')",
	"INSERT INTO keyless VALUES ('same'), ('same'), (NULL), ('other')",
	"INSERT INTO textkey VALUES ('B', 1, 'x'), ('a', 2, 'y'), ('C', 3, 'z'), (_latin1 x'e4', 4, 'ae'), ('A', " +
		"1, 'other')",
	"INSERT INTO uniquely VALUES ('one', NULL), ('two', NULL)",
	"INSERT INTO `with blank \"and``tick'` VALUES (1, 'v')",
}

func oddDatabase(t *testing.T, name string) *mysql.Database {
	t.Helper()
	ctx := context.Background()
	db := newDatabase(t, name)
	for _, s := range append(append([]string(nil), odd...), oddRows...) {
		require.NoError(t, db.Exec(ctx, strings.ReplaceAll(s, "@DB@", name)), s)
	}
	every := make([]byte, 256)
	for i := range every {
		every[i] = byte(i)
	}
	require.NoError(t, db.Exec(ctx, "INSERT INTO kinds (id, vc, vb, bl, l1) VALUES (9, 'bytes', ?, ?, ?)", every, every,
		every))
	require.NoError(t, db.Exec(ctx, "UPDATE kinds SET ts = '2026-07-01 00:30:00'"))
	return db
}

// pour copies a snapshot's tables into a database.
func pour(t *testing.T, s tables.Snapshot, into string) tables.Snapshot {
	t.Helper()
	ctx := context.Background()
	db := newDatabase(t, into)
	to := mysql.NewTarget(db.Login(), db.Login(), into)
	_, err := to.Begin(ctx, s.Schema())
	require.NoError(t, err)
	for _, tab := range s.Schema().Tables {
		require.NoError(t, to.Load(ctx, tab.Name, func(put func(tables.Row) error) error {
			return s.Read(ctx, tab.Name, tables.Range{}, put)
		}), tab.Name)
	}
	require.NoError(t, to.Finish(ctx))
	require.NoError(t, to.Close())
	c, err := db.Snapshot(ctx)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

// lines reads a table as it is, with each row's digest by us.
func lines(t *testing.T, s tables.Snapshot, table string, r tables.Range) (out []string, sums []string) {
	t.Helper()
	var buf []byte
	require.NoError(t, s.Read(context.Background(), table, r, func(row tables.Row) error {
		line := ""
		for _, v := range row.Values {
			line += fmt.Sprintf(" %d/%q", v.Kind, v.Bytes)
		}
		var d tables.Digest
		d, buf = s.Digest(table, row, buf)
		out, sums = append(out, line), append(sums, d.String())
		return nil
	}))
	return
}

// withoutBytes leaves out what the server only estimates.
func withoutBytes(list []tables.Table) []tables.Table {
	list = slices.Clone(list)
	for i := range list {
		list[i].Bytes = 0
	}
	return list
}

func TestEverythingOddComesOver(t *testing.T) {
	ctx := context.Background()
	db := oddDatabase(t, "odd_origin")
	s, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer s.Close()
	assert.Empty(t, s.Schema().Problems)
	c := pour(t, s, "odd_copy")
	assert.Equal(t, withoutBytes(s.Schema().Tables), withoutBytes(c.Schema().Tables))
	assert.Equal(t, s.Schema().After, c.Schema().After)
	assert.Len(t, c.Schema().After, 6)
	for _, tab := range s.Schema().Tables {
		want, sums := lines(t, s, tab.Name, tables.Range{})
		got, _ := lines(t, c, tab.Name, tables.Range{})
		assert.Equal(t, want, got, tab.Name)
		var theirs []string
		require.NoError(
			t,
			s.(tables.Summer).Sums(
				ctx,
				tab.Name,
				tables.Range{},
				tables.Search{},
				func(_ []tables.Value, d tables.Digest, _ bool) error {
					theirs = append(theirs, d.String())
					return nil
				},
			),
		)
		assert.Equal(t, sums, theirs, "the server digests the rows of %s as we do", tab.Name)
	}
	copied := mysql.Open(db.Login(), "odd_copy")
	require.NoError(t, copied.Exec(ctx, "UPDATE parent SET id = 5 WHERE id = 1"), "the trigger works")
	require.NoError(t, copied.Exec(ctx, "CALL sweep()"))
	stamp, err := db.Stamp(ctx)
	require.NoError(t, err)
	again, err := db.Stamp(ctx)
	require.NoError(t, err)
	assert.Equal(t, stamp, again, "nothing was written to the origin by the copy's trigger")
}

func TestOddKeysAreCutIntoRanges(t *testing.T) {
	ctx := context.Background()
	db := oddDatabase(t, "odd_ranges")
	for i := range 40 {
		require.NoError(t, db.Exec(ctx, "INSERT INTO textkey VALUES (?, ?, 'v')",
			fmt.Sprintf("%c%d", 'a'+i%7-32*(i%2), i), i))
	}
	s, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer s.Close()
	for _, table := range []string{"textkey", "parts", "kinds", "uniquely"} {
		whole, _ := lines(t, s, table, tables.Range{})
		var all []string
		parts, err := s.Ranges(ctx, table, 3)
		require.NoError(t, err)
		var sum uint64
		var rows int64
		for _, p := range parts {
			got, _ := lines(t, s, table, p)
			all = append(all, got...)
			n, d, err := s.(tables.Summer).Total(ctx, table, p)
			require.NoError(t, err)
			rows, sum = rows+n, sum+d
		}
		assert.Equal(t, whole, all, table)
		n, d, err := s.(tables.Summer).Total(ctx, table, tables.Range{})
		require.NoError(t, err)
		assert.Equal(t, n, rows)
		assert.Equal(t, d, sum)
	}
}

func TestPick(t *testing.T) {
	db := oddDatabase(t, "odd_pick")
	s, err := db.Snapshot(context.Background())
	require.NoError(t, err)
	defer s.Close()
	text := func(k string, n int64) []tables.Value {
		return []tables.Value{{Kind: tables.Text, Bytes: []byte(k)}, {Kind: tables.Int, Int: n}}
	}
	var got []string
	require.NoError(
		t,
		s.(tables.Summer).Pick(
			context.Background(),
			"textkey",
			[][]tables.Value{text("B", 1), text("\xe4", 4), text("nothing", 1)},
			func(r tables.Row) error {
				got = append(got, r.Values[2].String())
				return nil
			},
		),
	)
	assert.ElementsMatch(t, []string{"x", "ae"}, got)
}

func TestFloatsKeepTheirLastBit(t *testing.T) {
	ctx := context.Background()
	db := newDatabase(
		t,
		"floats",
		"CREATE TABLE f (id INT PRIMARY KEY, f FLOAT, d DOUBLE)",
		"INSERT INTO f VALUES (1, 16777216.7, 0.1), (2, 3.4028234e38, 1.7976931348623157e308), (3, 1e-45, 5e-324), "+
			"(4, 0.3333333333333333, 0.1 + 0.2)",
	)
	s, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer s.Close()
	pour(t, s, "floats_copy")
	require.NoError(t, db.Exec(ctx, "CREATE TABLE same AS SELECT 1 FROM f a JOIN floats_copy.f b ON a.id = b.id AND "+
		"a.f = b.f AND a.d = b.d"))
	after, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer after.Close()
	same, _ := after.Schema().Table("same")
	assert.EqualValues(t, 4, same.Rows)
}

func TestAnAccountWithFewRights(t *testing.T) {
	ctx := context.Background()
	oddDatabase(t, "few")
	all := mysql.Open(root(), "")
	for _, q := range []string{"CREATE USER few@localhost IDENTIFIED BY 'made up'",
		"GRANT SELECT ON few.* TO few@localhost"} {
		require.NoError(t, all.Exec(ctx, q))
	}
	l := root()
	l.User, l.Password = "few", "made up"
	s, err := mysql.Open(l, "few").Snapshot(ctx)
	require.NoError(t, err)
	defer s.Close()
	c := pour(t, s, "few_copy")
	for _, tab := range s.Schema().Tables {
		want, _ := lines(t, s, tab.Name, tables.Range{})
		got, _ := lines(t, c, tab.Name, tables.Range{})
		assert.Equal(t, want, got, tab.Name)
	}
	problems := strings.Join(s.Schema().Problems, "\n")
	for _, told := range []string{"the view by_name is not copied: this account may not see", "if there are triggers",
		"if there are events", "if there are routines"} {
		assert.Contains(t, problems, told)
	}
	may, err := l.MayMake(ctx)
	require.NoError(t, err)
	assert.False(t, may)
	_, err = mysql.Open(l, "few_copy").Snapshot(ctx)
	assert.ErrorIs(t, err, tables.ErrRefused)
	assert.NotContains(t, err.Error(), "made up")
	l.Password = "wrong secret"
	_, err = mysql.Open(l, "few").Snapshot(ctx)
	assert.ErrorIs(t, err, tables.ErrRefused)
	assert.NotContains(t, err.Error(), "wrong secret")
}

func TestSeveralReadersSeeOneState(t *testing.T) {
	ctx := context.Background()
	db := newDatabase(t, "readers", "CREATE TABLE a (id INT PRIMARY KEY) ENGINE=InnoDB",
		"CREATE TABLE b (id INT PRIMARY KEY) ENGINE=InnoDB")
	db.Readers = 4
	stop := make(chan struct{})
	done := make(chan error, 1)
	go func() { // a visitor who writes the same to both tables, again and again
		for i := 0; ; i++ {
			select {
			case <-stop:
				done <- nil
				return
			default:
			}
			if err := db.Exec(ctx, fmt.Sprintf("INSERT INTO a VALUES (%d)", i)); err != nil {
				done <- err
				return
			}
			if err := db.Exec(ctx, fmt.Sprintf("INSERT INTO b VALUES (%d)", i)); err != nil {
				done <- err
				return
			}
		}
	}()
	for range 20 {
		s, err := db.Snapshot(ctx)
		require.NoError(t, err)
		var n []int64
		for _, table := range []string{"a", "b"} {
			rows, _, err := s.(tables.Summer).Total(ctx, table, tables.Range{})
			require.NoError(t, err)
			n = append(n, rows)
		}
		assert.GreaterOrEqual(t, s.Readers(), 1)
		assert.True(t, n[0] == n[1] || n[0] == n[1]+1, "%d rows in a, %d in b, by %d readers", n[0], n[1], s.Readers())
		require.NoError(t, s.Close())
	}
	close(stop)
	require.NoError(t, <-done)
	s, err := db.Snapshot(ctx)
	require.NoError(t, err)
	defer s.Close()
	assert.Equal(t, 4, s.Readers(), "when nobody writes, all connections see the same")
}
