package state

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"

	"alibi/internal/tables"
)

// apart is a change of tables that must not be in use; nothing is done.
type apart struct{ tables.Edit }

func (apart) Separate() bool                                                  { return true }
func (apart) Objects(context.Context, []tables.Object, []tables.Object) error { return nil }
func (apart) Rollback(context.Context) error                                  { return nil }
func (apart) Close() error                                                    { return nil }

// A side that can't be opened again half-way is an error like any other, and nothing is closed twice.
func TestASideThatIsGoneHalfWay(t *testing.T) {
	opened, closed := 0, 0
	m := &Maker{
		ID: "r1", Memory: &Memory{}, HasTables: true,
		Open: func(context.Context) (*Ends, error) {
			if opened++; opened > 1 {
				return nil, errBroken
			}
			once := false
			return &Ends{Want: &Wanted{}, Snapshot: func(context.Context) (tables.Snapshot, error) { return tables.None, nil },
				Close: func() {
					if !once {
						closed++
					}
					once = true
				}}, nil
		},
		Edit: func(context.Context, string) (tables.Edit, error) { return apart{}, nil },
	}
	assert.ErrorIs(t, m.Tables(context.Background(), silent{}), errBroken)
	assert.Equal(t, 2, opened)
	assert.Equal(t, 1, closed)
}
