package stack

import (
	"context"
	"fmt"
	"time"

	"alibi/internal/site"
)

// Account is one under which somebody signs in.
type Account struct {
	Login string   `json:"login"`
	Name  string   `json:"name,omitempty"`
	Mail  string   `json:"mail,omitempty"`
	Roles []string `json:"roles,omitempty"`
}

// AccountWish is an account that is to be there. One that has its login already
// gets what is not empty.
type AccountWish struct {
	Login string    `json:"login"`
	Mail  string    `json:"mail,omitempty"`
	Role  string    `json:"role,omitempty"`
	Hash  string    `json:"hash,omitempty"` // of its password: bcrypt
	At    time.Time `json:"at"`
}

// ReadAccounts lists the accounts of a site.
func ReadAccounts(ctx context.Context, st Stack, p Place, db site.Database) ([]Account, error) {
	db.As = "" // by their own names
	base, err := OpenDatabase(ctx, st, p, db)
	if err != nil {
		return nil, err
	}
	snap, err := base.Snapshot(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the accounts: %w", err)
	}
	defer snap.Close()
	return PeopleOf(st).Accounts(ctx, snap, db.Prefix)
}
