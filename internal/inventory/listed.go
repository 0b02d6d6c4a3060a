package inventory

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"sync"

	"alibi/internal/site"
)

// listedSchema notes which sites were changed, in order: whoever changes one, by whatever program, is noted by the
// record itself.
var listedSchema = `CREATE TABLE changed_sites (id TEXT PRIMARY KEY, n INTEGER NOT NULL);
	CREATE INDEX changed_sites_by_n ON changed_sites (n);
	INSERT INTO changed_sites SELECT id, 1 FROM sites;` +
	noting("site_made", "INSERT", "NEW") + noting("site_changed", "UPDATE", "NEW") +
	noting("site_removed", "DELETE", "OLD")

// noting is a trigger that notes a change.
func noting(name, of, row string) string {
	return fmt.Sprintf(` CREATE TRIGGER %s AFTER %s ON sites BEGIN
		INSERT INTO changed_sites VALUES (%s.id, (SELECT COALESCE(MAX(n), 0) + 1 FROM changed_sites))
		ON CONFLICT (id) DO UPDATE SET n = excluded.n; END;`, name, of, row)
}

// listed is the sites as they were when they were listed last.
type listed struct {
	mu   sync.Mutex
	n    int64       // of the last change that is known
	list []site.Site // by name
}

// Listed lists the sites as Sites does, and reads those only that were changed since it did so last: for who looks
// again and again. The list and what a site points to, as its facts, are shared by all who have listed it, and must
// not be changed.
func (in *Inventory) Listed(ctx context.Context) ([]site.Site, error) {
	l := &in.listed
	l.mu.Lock()
	defer l.mu.Unlock()
	rows, err := in.db.QueryContext(ctx, "SELECT c.id, c.n, COALESCE(s.state, 'gone'), s.doc FROM changed_sites c "+
		"LEFT JOIN sites s ON s.id = c.id WHERE c.n > ?", l.n)
	if err != nil {
		return nil, fmt.Errorf("reading the record: %w", err)
	}
	defer rows.Close()
	last := l.n
	gone := map[site.ID]bool{}
	var docs [][]byte
	for rows.Next() {
		var id, state string
		var n int64
		var doc sql.RawBytes
		if err := rows.Scan(&id, &n, &state, &doc); err != nil {
			return nil, fmt.Errorf("reading the record: %w", err)
		}
		last = max(last, n)
		if state == string(site.Gone) || state == string(site.Aside) {
			gone[site.ID(id)] = true
		} else {
			docs = append(docs, slices.Clone(doc))
		}
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("reading the record: %w", err)
	}
	changed, err := decode[site.Site](docs)
	if err != nil {
		return nil, err
	}
	l.take(last, changed, gone)
	return l.list, nil
}

// take takes changes over. The former list stays as it was for those who have it.
func (l *listed) take(n int64, changed []site.Site, gone map[site.ID]bool) {
	l.n = n
	if len(changed)+len(gone) == 0 {
		return
	}
	for _, s := range changed {
		gone[s.ID] = true
	}
	list := make([]site.Site, 0, len(l.list)+len(changed))
	for _, s := range l.list {
		if !gone[s.ID] {
			list = append(list, s)
		}
	}
	if l.list = append(list, changed...); len(changed) > 1 {
		slices.SortFunc(l.list, byName)
		return
	}
	for _, s := range changed {
		at, _ := slices.BinarySearchFunc(list, s, byName)
		l.list = slices.Insert(list, at, s)
	}
}

func byName(a, b site.Site) int {
	if c := strings.Compare(a.Name, b.Name); c != 0 {
		return c
	}
	return strings.Compare(string(a.ID), string(b.ID))
}
