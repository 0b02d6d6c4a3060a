package mysql_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host/pace"
	"alibi/internal/tables"
)

// What nobody waits for rests while others use the server, and only then.
func TestACalmReaderRestsWhileOthersUseTheServer(t *testing.T) {
	ctx := context.Background()
	db := newDatabase(t, "calm", "CREATE TABLE tides (id INT PRIMARY KEY, level INT)")
	for i := range 20 {
		require.NoError(t, db.Exec(ctx, fmt.Sprintf("INSERT INTO tides SELECT seq, seq FROM seq_%d_to_%d", i*100, i*100+99)))
	}
	total := func(s tables.Snapshot) {
		rows, _, err := s.(tables.Summer).Total(ctx, "tides", tables.Range{})
		require.NoError(t, err)
		assert.EqualValues(t, 2000, rows)
	}
	read := func(ctx context.Context, during func(s tables.Snapshot)) {
		s, err := db.Snapshot(ctx)
		require.NoError(t, err)
		defer s.Close()
		during(s)
	}
	var alone, beside pace.Calm
	read(alone.Context(ctx), func(s tables.Snapshot) {
		for until := time.Now().Add(time.Second); time.Now().Before(until); time.Sleep(10 * time.Millisecond) {
			total(s)
		}
	})
	assert.Zero(t, alone.Rested(), "nobody else is there")

	visits, end := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for visits.Err() == nil {
			_ = db.Exec(ctx, "DO 1")
			time.Sleep(5 * time.Millisecond)
		}
	}()
	read(beside.Context(ctx), func(s tables.Snapshot) {
		for until := time.Now().Add(10 * time.Second); beside.Rested() == 0 && time.Now().Before(until); {
			total(s)
		}
		short, cancel := context.WithCancel(ctx)
		cancel()
		_, _, err := s.(tables.Summer).Total(short, "tides", tables.Range{})
		assert.ErrorIs(t, err, context.Canceled)
		total(s)
	})
	assert.Positive(t, beside.Rested())
	before := beside.Rested()
	read(ctx, total) // somebody waits for this
	end()
	<-ended
	assert.Equal(t, before, beside.Rested())
}
