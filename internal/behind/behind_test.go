package behind_test

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/behind"
	"alibi/internal/site"
)

const id = site.ID("a copy")

func TestWhoAsksForAFileWaitsForItAndNobodyElseDoes(t *testing.T) {
	ctx := context.Background()
	var d behind.Desk
	var brought atomic.Int32
	gate := make(chan struct{})
	l := d.Open(ctx, id, []string{"up/1.jpg", "up/2.jpg", "up/3.jpg"}, func(ctx context.Context, name string) error {
		brought.Add(1)
		<-gate
		return nil
	})
	defer l.Close()
	assert.Equal(t, 3, l.Left())
	require.NoError(t, d.Await(ctx, id, "up/none.jpg"), "it is not one that is to come")
	assert.Equal(t, []string{"1.jpg", "2.jpg", "3.jpg"}, d.Names(id, "up"))

	var wg sync.WaitGroup
	for range 5 {
		wg.Go(func() { assert.NoError(t, d.Await(ctx, id, "up/2.jpg")) })
	}
	time.Sleep(20 * time.Millisecond)
	close(gate)
	wg.Wait()
	assert.EqualValues(t, 1, brought.Load(), "it is brought once, however many ask")
	assert.Equal(t, []string{"1.jpg", "3.jpg"}, d.Names(id, "up"))

	l.Came("up/1.jpg")
	require.NoError(t, d.Await(ctx, id, "up/1.jpg"))
	assert.EqualValues(t, 1, brought.Load())
	assert.Equal(t, 1, l.Left())
}

func TestAFileThatCantBeBroughtIsSaidAndAskedForAgain(t *testing.T) {
	ctx := context.Background()
	var d behind.Desk
	cut := errors.New("the line is cut")
	fails := true
	l := d.Open(ctx, id, []string{"a.jpg"}, func(context.Context, string) error {
		if fails {
			return cut
		}
		return nil
	})
	defer l.Close()
	err := d.Await(ctx, id, "a.jpg")
	require.ErrorIs(t, err, behind.ErrNotHere)
	require.ErrorIs(t, err, cut)
	fails = false
	require.NoError(t, d.Await(ctx, id, "a.jpg"))
}

func TestWhoAsksWhileARunIsTakenUpAgainWaitsForThat(t *testing.T) {
	ctx := context.Background()
	var d behind.Desk
	first := d.Open(ctx, id, []string{"a.jpg"}, func(ctx context.Context, _ string) error {
		<-ctx.Done()
		return ctx.Err()
	})
	asked := make(chan error, 1)
	go func() { asked <- d.Await(ctx, id, "a.jpg") }()
	time.Sleep(20 * time.Millisecond)
	first.Close()
	select {
	case err := <-asked:
		t.Fatalf("it was given up: %v", err)
	case <-time.After(50 * time.Millisecond):
	}
	second := d.Open(ctx, id, []string{"a.jpg"}, func(context.Context, string) error { return nil })
	defer second.Close()
	require.NoError(t, <-asked)

	brief, cancel := context.WithTimeout(ctx, 30*time.Millisecond)
	defer cancel()
	require.ErrorIs(t, d.Await(brief, "another", "a.jpg"), behind.ErrNotHere, "nobody brings it")
	d.End("another")
	require.NoError(t, d.Await(ctx, "another", "a.jpg"), "all have come")
}

func TestAddressesBelowASubSiteLeadToTheSameFiles(t *testing.T) {
	ctx := context.Background()
	var d behind.Desk
	var got []string
	l := d.Open(ctx, id, []string{"content/uploads/1.jpg", "up/2.jpg"}, func(_ context.Context, name string) error {
		got = append(got, name)
		return nil
	})
	defer l.Close()
	of := behind.Of{Desk: &d, ID: id}
	for _, address := range []string{"/", "/north/", "/up/2", "/../../etc/passwd.jpg", "/north/content/uploads/1.jpg",
		"/up//2.jpg"} {
		require.NoError(t, of.AwaitPage(ctx, address), address)
	}
	assert.Equal(t, []string{"content/uploads/1.jpg", "up/2.jpg"}, got)
}
