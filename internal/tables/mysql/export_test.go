package mysql

import "database/sql"

// Pool opens connections as all of the package does.
func (l Login) Pool() (*sql.DB, error) { return l.pool("mysql", 4, nil) }
