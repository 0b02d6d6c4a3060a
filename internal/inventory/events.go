package inventory

import (
	"context"
	"fmt"
	"strings"
	"time"

	"alibi/internal/site"
)

// Event is something that happened.
type Event struct {
	At   time.Time `json:"at"`
	Who  string    `json:"who"`
	Site site.ID   `json:"site,omitempty"`
	Kind string    `json:"kind"`
	Text string    `json:"text"`
}

// Log adds an event.
func (in *Inventory) Log(ctx context.Context, e Event) error {
	return in.In(ctx, func(tx *Tx) error { return tx.Log(ctx, e) })
}

// Log adds an event.
func (t *Tx) Log(ctx context.Context, e Event) error {
	const add = "INSERT INTO events (at, who, site, kind, text) VALUES (?, ?, ?, ?, ?)"
	return t.exec(ctx, add, e.At.UnixNano(), e.Who, string(e.Site), e.Kind, e.Text)
}

// Events lists the latest events, newest first, of one site or of all ("").
func (in *Inventory) Events(ctx context.Context, id site.ID, limit int) ([]Event, error) {
	return in.Search(ctx, LookAt(id, limit))
}

// Look says which events are wanted; what is empty does not matter.
type Look struct {
	Sites           []site.ID
	Who, Kind, Text string // Text stands somewhere in what happened
	Since           time.Time
	Limit, Skip     int // Limit 0: all
}

// LookAt is for the latest events of one site or of all ("").
func LookAt(id site.ID, limit int) Look {
	l := Look{Limit: limit}
	if id != "" {
		l.Sites = []site.ID{id}
	}
	return l
}

// Search gives events, the latest first.
func (in *Inventory) Search(ctx context.Context, l Look) ([]Event, error) {
	q, args := "SELECT at, who, site, kind, text FROM events WHERE 1", []any{}
	and := func(condition string, arg any) {
		q += " AND " + condition
		args = append(args, arg)
	}
	if len(l.Sites) > 0 {
		q += " AND site IN (?" + strings.Repeat(", ?", len(l.Sites)-1) + ")"
		for _, id := range l.Sites {
			args = append(args, string(id))
		}
	}
	if l.Who != "" {
		and("who = ?", l.Who)
	}
	if l.Kind != "" {
		and("kind = ?", l.Kind)
	}
	if l.Text != "" {
		and("instr(lower(text), lower(?)) > 0", l.Text)
	}
	if !l.Since.IsZero() {
		and("at >= ?", l.Since.UnixNano())
	}
	if l.Limit <= 0 {
		l.Limit = -1
	}
	rows, err := in.db.QueryContext(ctx, q+" ORDER BY at DESC, id DESC LIMIT ? OFFSET ?",
		append(args, l.Limit, l.Skip)...)
	if err != nil {
		return nil, fmt.Errorf("reading the record: %w", err)
	}
	defer rows.Close()
	var out []Event
	for rows.Next() {
		var e Event
		var at int64
		if err := rows.Scan(&at, &e.Who, &e.Site, &e.Kind, &e.Text); err != nil {
			return nil, fmt.Errorf("reading the record: %w", err)
		}
		e.At = time.Unix(0, at)
		out = append(out, e)
	}
	return out, rows.Err()
}
