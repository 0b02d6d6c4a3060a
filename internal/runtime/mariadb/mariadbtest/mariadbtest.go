// Package mariadbtest gives tests a MariaDB server of their own.
package mariadbtest

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"alibi/internal/runtime/mariadb"
	"alibi/internal/runtime/process"
	"alibi/internal/tables/mysql"
)

var server *mariadb.Server

// Main runs a package's tests with a server; call it from TestMain.
func Main(m *testing.M, more ...string) {
	os.Exit(run(m, more))
}

func run(m *testing.M, more []string) int {
	dir, err := os.MkdirTemp("", "alibi-db-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	defer process.Reap(dir)
	server, err = mariadb.Start(mariadb.Options{Data: filepath.Join(dir, "data"), Run: dir, More: append([]string{"--innodb-log-file-size=32M", "--innodb-flush-method=nosync"}, more...)})
	if err != nil {
		fmt.Fprintln(os.Stderr, "these tests need a MariaDB server (make needs):", err)
		return 1
	}
	defer server.Stop() //nolint:errcheck // the folder goes with it
	return m.Run()
}

// Root is the administrator of the server.
func Root() mysql.Login {
	return mysql.Login{Network: "unix", Addr: server.Socket, User: "root"}
}
