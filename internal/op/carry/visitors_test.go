package carry_test

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/demotest"
	"alibi/internal/desk"
	"alibi/internal/op/carry"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/site"
	"alibi/internal/work"
)

// visitors come to a page of a site until the function is called, which gives what they were told is done.
func visitors(t *testing.T, s site.Site, page string, names ...string) (leave func() []string) {
	t.Helper()
	stop := filepath.Join(t.TempDir(), "stop")
	var wait sync.WaitGroup
	said := make([]bytes.Buffer, len(names))
	for i, name := range names {
		cmd := exec.Command("php", "testdata/visitor.php", s.Root, s.Address().String(), page, name, stop)
		cmd.Stdout, cmd.Stderr = &said[i], &said[i]
		require.NoError(t, cmd.Start())
		wait.Go(func() { assert.NoError(t, cmd.Wait()) })
	}
	return func() (out []string) {
		require.NoError(t, os.WriteFile(stop, nil, 0o644))
		wait.Wait()
		for i := range said {
			out = append(out, strings.Split(strings.TrimSpace(said[i].String()), "\n")...)
		}
		return out
	}
}

// Visitors comment and order all the while, and at each moment of a run: all that they were told is done is there
// afterwards, counted, and stays when the run is undone.
func TestVisitorsLoseNothingWhileChangesAreCarried(t *testing.T) {
	w, live, s := pair(t, "CREATE TABLE sk_orders (id INT PRIMARY KEY AUTO_INCREMENT, what VARCHAR(99)) ENGINE=InnoDB")
	id := somePage(t, live)
	var mu sync.Mutex
	var moments []string
	w.Stop()
	w.Open(func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if m.Phase == "progress" {
				return
			}
			mu.Lock()
			defer mu.Unlock()
			text := fmt.Sprintf("comment at %s %s %d", m.Step, m.Phase, len(moments))
			moments = append(moments, text)
			for _, q := range []string{"INSERT INTO sk_comments (comment_post_ID, comment_author, comment_content, " +
				"comment_approved) VALUES (" + id + ", 'M', '" + text + "', '1')",
				"UPDATE sk_posts SET comment_count = (SELECT COUNT(*) FROM sk_comments WHERE comment_post_ID = " + id +
					" AND comment_approved = '1') WHERE ID = " + id,
				"INSERT INTO sk_orders (what) VALUES ('" + text + "')"} {
				assert.NoError(t, mariadbtest.DB(live.Database.Name).Exec(context.Background(), q))
			}
		}
	})
	w.Keep()
	leave := visitors(t, live, id, "Ada", "Bo")
	var last string
	for round := range 4 {
		title := fmt.Sprint("Low tide ", round)
		on(t, s, "UPDATE sk_posts SET post_title = '"+title+"', post_content = CONCAT(post_content, '\n"+title+"') "+
			"WHERE ID = "+id,
			fmt.Sprintf("INSERT INTO sk_comments (comment_post_ID, comment_author, comment_content, comment_approved) VALUES "+
				"(%s, 'C', 'answer %d', '1')", id, round))
		_, r := carried(t, w, s, carry.Wish{To: carry.Live, Kinds: []string{"page", "comment"}})
		assert.Equal(t, title, get(t, live, "SELECT post_title FROM sk_posts WHERE ID = "+id))
		rec, err := w.Desk.Copies.Carried(r.ID)
		require.NoError(t, err)
		assert.Empty(t, rec.Left, "all of it is carried, whatever numbers visitors take")
		last = r.ID
	}
	undone(t, w, last)
	said := append(leave(), moments...)
	w.Stop()
	assert.Greater(t, len(said), 60, "visitors were there")
	assert.Equal(t, "Low tide 2", get(t, live, "SELECT post_title FROM sk_posts WHERE ID = "+id))
	there := get(t, live, "SELECT CONCAT('\n', GROUP_CONCAT(comment_content SEPARATOR '\n'), '\n') FROM sk_comments") +
		get(t, live, "SELECT CONCAT('\n', GROUP_CONCAT(what SEPARATOR '\n'), '\n') FROM sk_orders")
	for _, text := range said {
		assert.Contains(t, there, "\n"+text+"\n")
	}
	for round, want := range []int{1, 1, 1, 0} {
		assert.Equal(t, want, strings.Count(there, fmt.Sprintf("\nanswer %d\n", round)))
	}
	assert.Equal(t, get(t, live, "SELECT CONCAT(COUNT(*)) FROM sk_comments WHERE comment_approved = '1' AND "+
		"comment_post_ID = "+id), get(t, live, "SELECT CONCAT(comment_count) FROM sk_posts WHERE ID = "+id))
}

// Visitors who begin at the last moment to take a thousand numbers a second keep nothing from finding one.
func TestNumbersAreFoundWhereVisitorsTakeThemFast(t *testing.T) {
	w, live, s := pair(t)
	id := somePage(t, live)
	one := "(" + id + ", 'V', 'x', '1')"
	many := "INSERT INTO sk_comments (comment_post_ID, comment_author, comment_content, comment_approved) VALUES "
	take := many + strings.Repeat(one+", ", 99) + one
	stop := make(chan struct{})
	var wait sync.WaitGroup
	end := sync.OnceFunc(func() {
		close(stop)
		wait.Wait()
	})
	defer end()
	w.Stop()
	w.Open(func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if m.Step != "keep" || m.Phase != "end" {
				return
			}
			wait.Go(func() {
				for {
					assert.NoError(t, mariadbtest.DB(live.Database.Name).Exec(context.Background(), take))
					select {
					case <-stop:
						return
					case <-time.After(100 * time.Millisecond):
					}
				}
			})
		}
	})
	w.Keep()
	on(t, s, many+"("+id+", 'C', 'an answer', '1')")
	_, r := carried(t, w, s, carry.Wish{To: carry.Live, Kinds: []string{"comment"}})
	end()
	rec, err := w.Desk.Copies.Carried(r.ID)
	require.NoError(t, err)
	assert.Empty(t, rec.Left)
	assert.Equal(t, "1", get(t, live, "SELECT CONCAT(COUNT(*)) FROM sk_comments WHERE comment_content = 'an answer'"))
}

// A number that the live site gives away after the last look is not the thing's any more: it gets another one, and what
// refers to it follows, before anything of it is written.
func TestANumberGivenAwayAtTheLastMomentIsNotTaken(t *testing.T) {
	ctx := context.Background()
	w, live, s := pair(t)
	w.Stop()
	on(t, s, fmt.Sprintf(insertPost, 9001, "picture", "Fog", "fog", "x"),
		fmt.Sprintf(insertPost, 9002, `<!-- wp:image {"id":9001} -->`, "Weather", "weather", "y"))
	p, err := w.Desk.Copies.PlanSync(ctx, s.ID, carry.Wish{To: carry.Live, All: true})
	require.NoError(t, err)
	r, err := w.Desk.Runs.StartTyped(ctx, p, p.Confirm)
	require.NoError(t, err)
	demotest.KilledAt(t, w.World, "keep end")
	on(t, live, fmt.Sprintf(insertPost, 9001, "an order", "Order", "order", "z"))
	r = demotest.Resumed(t, w.World, r.ID)
	assert.Contains(t, r.Result, "2 items carried from winter")
	for _, side := range []site.Site{live, s} {
		to := get(t, side, "SELECT CONCAT(ID) FROM sk_posts WHERE post_title = 'Fog'")
		assert.NotEqual(t, "9001", to)
		assert.Equal(t, `<!-- wp:image {"id":`+to+`} -->`, get(t, side, "SELECT post_content FROM sk_posts WHERE "+
			"post_title = 'Weather'"))
	}
	assert.Equal(t, "Order", get(t, live, "SELECT post_title FROM sk_posts WHERE ID = 9001"))
	w.Keep()
	undone(t, w, r.ID)
	assert.Equal(t, "Order", get(t, live, "SELECT GROUP_CONCAT(post_title) FROM sk_posts WHERE ID >= 9001"))
}
