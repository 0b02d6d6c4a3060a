package mysql_test

import (
	"context"
	"errors"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/tables"
	"alibi/internal/tables/mysql"
)

// running counts the statements on the server with a text in them.
func running(t *testing.T, text string) string {
	t.Helper()
	n, err := mariadbtest.Text("information_schema", "SELECT COUNT(*) FROM PROCESSLIST WHERE INFO LIKE '%"+text+
		"%' AND INFO NOT LIKE '%PROCESSLIST%'")
	require.NoError(t, err)
	return n
}

func TestAStatementEndsWithWhoWantedIt(t *testing.T) {
	root := root()
	for name, do := range map[string]func(context.Context) error{
		"a statement": func(ctx context.Context) error {
			return mysql.Open(root, "mysql").Exec(ctx, "SELECT SLEEP(600) /* mark */")
		},
		"a query by hand": func(ctx context.Context) error {
			_, err := mysql.Open(root, "mysql").Query(ctx, "SELECT SLEEP(600) /* mark */", true,
				func([]string, []tables.Value) error { return nil })
			return err
		},
	} {
		ctx, cancel := context.WithCancel(context.Background())
		done := make(chan error, 1)
		go func() { done <- do(ctx) }()
		require.Eventually(t, func() bool { return running(t, "mark") == "1" }, 60*time.Second, 20*time.Millisecond,
			name)
		cancel()
		select {
		case err := <-done:
			assert.ErrorIs(t, err, context.Canceled, name)
		case <-time.After(time.Minute):
			t.Fatal(name + " goes on")
		}
		assert.Eventually(t, func() bool { return running(t, "mark") == "0" }, time.Minute, 20*time.Millisecond,
			"%s: it is ended on the server", name)
	}
}

func TestAServerGetsNoFileOfThisMachine(t *testing.T) {
	ctx := context.Background()
	db := mysql.Open(root(), "mysql")
	require.NoError(t, db.Exec(ctx, "CREATE OR REPLACE TABLE alibi_infile (v TEXT)"))
	defer func() { _ = db.Exec(ctx, "DROP TABLE alibi_infile") }()
	assert.ErrorContains(t, db.Exec(ctx, "LOAD DATA LOCAL INFILE '/etc/hostname' INTO TABLE alibi_infile"),
		"not registered")
}

func TestADefinitionThatChangesWhileItIsReadIsSaid(t *testing.T) {
	ctx := context.Background()
	root := root()
	exec := func(q string) { require.NoError(t, mysql.Open(root, "").Exec(ctx, q), q) }
	exec("CREATE OR REPLACE DATABASE shaped")
	defer exec("DROP DATABASE shaped")
	exec(
		"CREATE TABLE shaped.a (id INT PRIMARY KEY, v INT) SELECT seq AS id, 1 AS v FROM mysql.help_topic, (SELECT 1 " +
			"AS seq) x LIMIT 1",
	)
	snap, err := mysql.Open(root, "shaped").Snapshot(ctx)
	require.NoError(t, err)
	defer snap.Close()
	exec("ALTER TABLE shaped.a DROP v") // it does not wait for the snapshot
	err = snap.Read(ctx, "a", tables.Range{}, func(tables.Row) error { return nil })
	assert.ErrorIs(t, err, tables.ErrShape)
	assert.True(t, tables.Transient(err))
}

func TestNothingGoesOnAfterADatabaseWasRead(t *testing.T) {
	ctx := context.Background()
	read := func() {
		db := mysql.Open(root(), "mysql")
		snap, err := db.Snapshot(ctx)
		require.NoError(t, err)
		list := snap.Schema().Tables
		require.NotEmpty(t, list)
		require.NoError(t, snap.Read(ctx, list[0].Name, tables.Range{}, func(tables.Row) error { return nil }))
		enough := errors.New("enough")
		if err := snap.Read(ctx, "help_topic", tables.Range{}, func(tables.Row) error { return enough }); err != nil {
			require.ErrorIs(t, err, enough)
		}
		require.NoError(t, snap.Close())
		_, err = db.Query(ctx, "SELECT 1", false, func([]string, []tables.Value) error { return nil })
		require.NoError(t, err)
	}
	read()
	before := runtime.NumGoroutine()
	for range 30 {
		read()
	}
	assert.Eventually(t, func() bool { return runtime.NumGoroutine() <= before+3 }, 60*time.Second, 50*time.Millisecond)
	assert.Equal(t, "0", running(t, "help_topic"))
}
