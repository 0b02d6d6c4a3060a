package mysql

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"alibi/internal/tables"
)

// OwnPrefix begins the names of all that Alibi makes in a database: marks of
// its work, and tables of copies that have no database of their own. Whoever
// reads the database does not see them, but Under their prefix.
const OwnPrefix = "alibi_"

// under is a look at those tables of a database that share a prefix, by other
// names. The zero value looks at all tables but Alibi's own.
type under struct{ name, stored string }

func (u under) active() bool { return u.stored != "" }

// named gives the name by which a stored table is known here.
func (u under) named(stored string) (string, bool) {
	if !u.active() {
		return stored, !strings.HasPrefix(stored, OwnPrefix)
	}
	rest, ok := strings.CutPrefix(stored, u.stored)
	return u.name + rest, ok && !ours(rest)
}

// in gives a table as it is stored.
func (u under) in(t tables.Table) tables.Table {
	t.Stored = ""
	if u.active() {
		t.Stored = u.stored + strings.TrimPrefix(t.Name, u.name)
		t.Create = strings.Replace(t.Create, name(t.Name), name(t.Stored), 1)
	}
	return t
}

// at is a table's name in a statement.
func at(t tables.Table) string {
	if t.Stored != "" {
		return name(t.Stored)
	}
	return name(t.Name)
}

// Under looks at the tables with the prefix stored only, by names with another
// one. What hangs between tables, foreign keys, views, triggers, is not seen.
func (d *Database) Under(prefix, stored string) *Database {
	return &Database{login: d.login, name: d.name, Readers: d.Readers, under: under{prefix, stored}}
}

// Under fills tables that are stored with another prefix, beside others in the
// database, which are not touched.
func (t *Target) Under(prefix, stored string) *Target {
	t.under = under{prefix, stored}
	return t
}

// foreign are the lines of a table's definition that tie it to another one.
var foreign = regexp.MustCompile(`,?\n\s*CONSTRAINT [^\n]* FOREIGN KEY [^\n]*[^\n,]`)

// narrow leaves out of a shape what is not seen under a prefix.
func (s *shape) narrow(views []string) {
	for i, t := range s.Tables {
		if cut := foreign.ReplaceAllString(t.Create, ""); cut != t.Create {
			s.Tables[i].Create = cut
			s.Problems = append(s.Problems, "foreign keys of "+t.Name+
				" are not copied: the copy has no database of its own")
		}
	}
	s.Problems = append(s.Problems, "triggers, routines and events are not copied, if there are any: the copy has no "+
		"database of its own")
	for _, v := range views {
		s.Problems = append(s.Problems, "the view "+v+" is not copied: the copy has no database of its own")
	}
}

// DropUnder removes the tables with a prefix of Alibi's.
func (l Login) DropUnder(ctx context.Context, database, prefix string) error {
	if !strings.HasPrefix(prefix, OwnPrefix) || len(prefix) < len(OwnPrefix)+4 {
		return fmt.Errorf("the tables %s... were not made by Alibi", prefix)
	}
	db, err := l.pool(database, 1, nil)
	if err != nil {
		return err
	}
	defer db.Close()
	list, err := records(ctx, db, "SELECT TABLE_NAME AS N FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?",
		database)
	if err != nil {
		return fmt.Errorf("removing the tables %s...: %w", prefix, err)
	}
	for _, r := range list {
		if strings.HasPrefix(r["N"], prefix) {
			if _, err := db.ExecContext(ctx, "DROP TABLE "+name(r["N"])); err != nil {
				return fmt.Errorf("removing the table %s: %w", r["N"], explain(err))
			}
		}
	}
	return nil
}
