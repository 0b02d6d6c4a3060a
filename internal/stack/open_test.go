package stack

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"

	"alibi/internal/site"
	"alibi/internal/tables"
)

func TestOnlyTheDatabaseOfACopyIsOpenedToBeWrittenTo(t *testing.T) {
	for _, role := range []site.Role{site.Live, ""} {
		_, err := OpenCopy(context.Background(), nil, Place{},
			site.Site{Name: "ferry", Role: role, Database: site.Database{Engine: "sqlite", Path: "/srv/ferry.db"}})
		assert.ErrorIs(t, err, tables.ErrRefused)
		assert.ErrorContains(t, err, "ferry is no copy")
	}
}
