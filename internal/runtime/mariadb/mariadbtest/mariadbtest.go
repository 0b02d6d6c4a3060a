// Package mariadbtest gives tests a MariaDB server of their own.
package mariadbtest

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"alibi/internal/runtime/mariadb"
	"alibi/internal/runtime/process"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
)

var (
	dir    string
	server *mariadb.Server
)

// Main runs a package's tests; call it from TestMain. The server is started
// when a test first wants it, and stopped at the end.
func Main(m *testing.M) {
	os.Exit(run(m))
}

func run(m *testing.M) int {
	var err error
	if dir, err = os.MkdirTemp("", "alibi-db-"); err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // sites run by other accounts reach the socket in it
		panic(err)
	}
	defer process.Reap(dir)
	code := m.Run()
	if server != nil {
		_ = server.Stop() // the folder goes with it
	}
	return code
}

// start starts the server once.
var start = sync.OnceFunc(func() {
	if dir == "" {
		panic("TestMain must call mariadbtest.Main")
	}
	var err error
	server, err = mariadb.Start(
		mariadb.Options{
			Data: filepath.Join(dir, "data"),
			Run:  dir,
			// A server forgets when a table was written to that it does not keep open; tests make many tables.
			More: []string{"--innodb-log-file-size=32M", "--innodb-flush-method=nosync",
				"--table-definition-cache=20000"},
		},
	)
	if err != nil {
		panic(fmt.Sprintf("these tests need a MariaDB server (make needs): %v", err))
	}
})

// Socket is the server's.
func Socket() string {
	start()
	return server.Socket
}

// Root is the server, reached as its administrator.
func Root() tables.Server { return engines.Local(Socket(), "root", "") }

// DB is a database of the server, for its administrator.
func DB(name string) tables.Writable { return Root().Open(name, tables.Prefix{}) }

// Stop stops the server, as a crash would; Start starts it again.
func Stop() error {
	start()
	return server.Stop()
}

// Start starts the server again after Stop.
func Start() error {
	var err error
	server, err = mariadb.Start(
		mariadb.Options{
			Data: filepath.Join(dir, "data"),
			Run:  dir,
			// A server forgets when a table was written to that it does not keep open; tests make many tables.
			More: []string{"--innodb-log-file-size=32M", "--innodb-flush-method=nosync",
				"--table-definition-cache=20000"},
		},
	)
	return err
}

// Text asks a database of the server for one value.
func Text(database, query string) (out string, err error) {
	db, err := sql.Open("mysql", fmt.Sprintf("root@unix(%s)/%s", Socket(), database))
	if err != nil {
		return "", err
	}
	defer db.Close()
	return out, db.QueryRow(query).Scan(&out)
}
