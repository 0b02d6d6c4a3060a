package gateway_test

import (
	"database/sql"

	_ "modernc.org/sqlite"
)

func exec(path, statement string) error {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)")
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.Exec(statement)
	return err
}
