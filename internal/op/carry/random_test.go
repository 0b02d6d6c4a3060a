package carry_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/drift"
	"alibi/internal/op/carry"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// seeds are how many random histories are tried; ALIBI_SEEDS asks for more of them, and ALIBI_SEED for the first.
func seeds(t *testing.T) (from, n int) {
	number := func(name string, usual int) int {
		text := os.Getenv(name)
		if text == "" {
			return usual
		}
		n, err := strconv.Atoi(text)
		require.NoError(t, err, name)
		return n
	}
	return number("ALIBI_SEED", 1), number("ALIBI_SEEDS", 4)
}

// failed are seeds that failed once.
var failed = []int{107}

// runPHP runs a program of testdata, which knows nothing of ours.
func runPHP(t *testing.T, program string, s site.Site, args ...string) []byte {
	t.Helper()
	return runBy(t, "php", program, s, args...)
}

// runBy runs it by one of the PHP versions.
func runBy(t *testing.T, cli, program string, s site.Site, args ...string) []byte {
	t.Helper()
	cmd := exec.Command(cli, append([]string{filepath.Join("testdata", program), s.Root, s.Address().String()},
		args...)...)
	var complaints bytes.Buffer
	cmd.Stderr = &complaints
	out, err := cmd.Output()
	require.NoError(t, err, "%s\n%s\n%s", program, out, complaints.String())
	return out
}

// state is what an independent program says that a site has.
type state struct {
	State    json.RawMessage
	Dangling []string
}

func stateOf(t *testing.T, s site.Site) (out state) {
	t.Helper()
	text := runPHP(t, "state.php", s)
	require.NoError(t, json.Unmarshal(text, &out), "%s", text)
	return out
}

const otherOrder = "the same lines in another order"

// apart are the lines that two states do not share, few enough to be read.
func apart(a, b state) (out []string) {
	have := map[string]int{}
	for line := range strings.Lines(string(b.State)) {
		have[line]++
	}
	post := ""
	for line := range strings.Lines(string(a.State)) {
		if strings.Contains(line, `"post `) || strings.Contains(line, `"comment `) || strings.Contains(line, `"term `) {
			post = strings.TrimSpace(line)
		}
		if have[line]--; have[line] < 0 {
			out = append(out, post+" "+strings.TrimSpace(line))
		}
	}
	if len(out) == 0 && string(a.State) != string(b.State) {
		out = append(out, otherOrder)
	}
	return out[:min(len(out), 12)]
}

// edit is what the editing program says that it did.
type edit struct {
	Op, Token, Text string
	Line            int
}

func edits(t *testing.T, s site.Site, side string, seed, steps int) (out []edit) {
	t.Helper()
	versions, err := real.PHPs(context.Background())
	require.NoError(t, err)
	require.Greater(t, len(versions), 2, "they are edited by several versions of PHP in turn")
	text := runBy(t, versions[seed%len(versions)].CLI, "edit.php", s, side, fmt.Sprint(seed), fmt.Sprint(steps))
	for line := range strings.Lines(string(text)) {
		var e edit
		require.NoError(t, json.Unmarshal([]byte(line), &e), "%s", text)
		out = append(out, e)
	}
	return out
}

// pending are the items that still differ and that people would carry.
func pending(t *testing.T, w *realtest.World, s site.Site) []*drift.Item {
	t.Helper()
	return slices.DeleteFunc(drifted(t, w, s), func(it *drift.Item) bool { return it.Marks })
}

// some plans and runs one portion: some of the items, one way, or both ways in one run (""), whose is to stand drawn by
// chance.
func some(t *testing.T, w *realtest.World, s site.Site, r *rand.Rand, items []*drift.Item, to carry.Side,
	all bool) string {
	t.Helper()
	wish := carry.Wish{To: to, Take: map[string]carry.Side{}}
	for _, it := range items {
		if !all && r.IntN(3) == 0 {
			continue
		}
		if it.Clashes() && !it.Merges {
			wish.Take[it.Name] = []carry.Side{carry.Live, carry.Copy}[r.IntN(2)]
		}
		wish.Items = append(wish.Items, it.Name)
	}
	if len(wish.Items) == 0 {
		return ""
	}
	var then []carry.Wish
	if to == "" {
		then = []carry.Wish{wish}
	}
	p, err := w.Desk.Copies.PlanSync(context.Background(), s.ID, wish, then...)
	require.NoError(t, err)
	if p.Blocked() {
		return ""
	}
	run := w.Run(p)
	require.Equal(t, plan.Done, run.State, run.Error)
	rec, err := w.Desk.Copies.Carried(run.ID)
	require.NoError(t, err)
	t.Logf("to %s: %s\nwhose is to stand: %v\nleft: %v", to, strings.Join(lines(items), "\n"), wish.Take, rec.Left)
	return run.ID
}

// Both sides are edited at random by the CMS itself, with equal numbers on both; changes are carried in portions and in
// any order until nothing is left; and a program that knows nothing of ours tells what either side has.
func TestRandomHistoriesMeet(t *testing.T) {
	w, live, s := pair(t)
	from, n := seeds(t)
	all := slices.Clone(failed)
	for seed := from; seed < from+n; seed++ {
		all = append(all, seed)
	}
	for _, seed := range all {
		ok := t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) { history(t, w, live, s, seed, alike) })
		require.True(t, ok)
	}
}

// alike wants both sides to have the same.
func alike(t *testing.T, live, s site.Site) {
	t.Helper()
	a, b := stateOf(t, live), stateOf(t, s)
	assert.Empty(t, apart(a, b), "the live site has these and the copy has not")
	assert.Empty(t, apart(b, a), "the copy has these and the live site has not")
}

// history has both sides edited at random and brought together; together wants that they are.
func history(t *testing.T, w *realtest.World, live, s site.Site, seed int,
	together func(t *testing.T, live, s site.Site)) {
	t.Helper()
	r := rand.New(rand.NewPCG(uint64(seed), 16))
	before, names := stateOf(t, live), shortNames(t, live)
	did := append(edits(t, live, "live", seed, 8+r.IntN(12)), edits(t, s, "copy", seed, 8+r.IntN(12))...)
	var last string
	for round := 0; ; round++ {
		if seed%4 == 3 { // then the servers tell that nobody writes, and what one look found is there for the next
			time.Sleep(2500 * time.Millisecond)
		}
		items := pending(t, w, s)
		if len(items) == 0 {
			break
		}
		require.Less(t, round, 16, "what differs does not get less: %s", strings.Join(lines(items), "\n"))
		to := []carry.Side{carry.Live, carry.Copy}[(round+r.IntN(2))%2]
		if round > 8 {
			to = []carry.Side{carry.Live, carry.Copy}[round%2]
		}
		if seed%5 == 4 && round%3 != 2 {
			to = ""
		}
		if id := some(t, w, s, r, items, to, round > 6); id != "" {
			last = id
		}
	}
	together(t, live, s)
	a, b := stateOf(t, live), stateOf(t, s)
	assert.Subset(t, before.Dangling, a.Dangling, "what refers to nothing")
	assert.Subset(t, before.Dangling, b.Dangling, "what refers to nothing on the copy")
	for id, now := range shortNames(t, live) {
		if was := names[id]; was != "" {
			assert.Equal(t, was, strings.TrimSuffix(now, "__trashed"), "the short name of %s, which nobody changed", id)
		}
	}
	if len(did) > 0 {
		merged(t, string(a.State), did)
	}
	if last != "" && seed%2 == 0 {
		undone(t, w, last)
		assert.NotEmpty(t, pending(t, w, s), "what was carried last is undone")
		for round := range 6 {
			if items := pending(t, w, s); len(items) > 0 {
				some(t, w, s, r, items, []carry.Side{carry.Live, carry.Copy}[round%2], true)
			}
		}
		together(t, live, s)
	}
}

// shortNames are those of a site's posts by their numbers; the CMS adds to them what goes into the bin.
func shortNames(t *testing.T, s site.Site) map[string]string {
	t.Helper()
	out := map[string]string{}
	all := get(t, s, "SELECT GROUP_CONCAT(CONCAT(ID, '=', post_name) SEPARATOR ',') FROM sk_posts WHERE post_type IN "+
		"('post', 'page', 'attachment', 'wp_block')")
	for part := range strings.SplitSeq(all, ",") {
		id, name, _ := strings.Cut(part, "=")
		out[id] = strings.TrimSuffix(name, "__trashed")
	}
	return out
}

// merged looks for each line that was written: the last of each is there, once, where its text still is. No line was
// written by both sides.
func merged(t *testing.T, state string, did []edit) {
	lines := map[string]string{}
	for _, e := range did {
		if e.Op == "line" {
			lines[fmt.Sprintf("line %d of %s: ", e.Line, e.Token)] = e.Text
		}
	}
	for line, text := range lines {
		if strings.Contains(state, line) {
			assert.Equal(t, 1, strings.Count(state, line+text), "%q", line+text)
		}
	}
}
