package far_test

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/png"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/clonetest"
	"alibi/internal/demo/demotest"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/evidence"
	"alibi/internal/op/clone"
	"alibi/internal/plan"
	"alibi/internal/site"
	"alibi/internal/work"
)

// look is a script of the site's that looks for files in several ways.
const look = `<?php
require __DIR__ . '/wp-load.php';
header('Content-Type: text/plain');
$up = __DIR__ . '/wp-content/uploads/';
$size = getimagesize($up . '2026/01/berth-1.png');
echo 'image ', $size[0], "\n";
echo 'there ', var_export(file_exists($up . '2026/01/berth-2.png'), true), ' ';
echo filesize($up . '2026/01/berth-3.png'), "\n";
echo 'read ', strlen(file_get_contents($up . '../uploads/2026/01/berth-4.png')), "\n";
echo 'none ', var_export(file_exists($up . '2026/01/none.png'), true), "\n";
echo 'listed ', count(preg_grep('/^berth/', scandir($up . '2026/02'))), "\n";
$it = 0;
foreach (new DirectoryIterator($up . '2026/02') as $f) {
	$it += $f->isFile() && 0 === strpos($f->getFilename(), 'berth') ? 1 : 0;
}
echo 'iterated ', $it, "\n";
echo 'odd ', filesize($up . '2026/02/öl 100%25 #1?.png') > 0, "\n";
echo 'gone ', var_export(unlink($up . '2026/01/berth-5.png'), true), "\n";
echo 'renamed ', var_export(rename($up . '2026/01/berth-6.png', $up . '2026/01/moved.png'), true), "\n";
echo 'written ', file_put_contents($up . '2026/01/berth-7.png', 'mine'), "\n";
$made = mkdir($up . 'new/below', 0755, true) && touch($up . 'new/below/f.txt') && is_dir($up . 'new');
echo 'made ', var_export($made, true), "\n";
$f = fopen($up . 'new/below/f.txt', 'c+');
echo 'locked ', var_export(flock($f, LOCK_EX), true), ' ', fwrite($f, 'abcdef'), ' ';
echo var_export(ftruncate($f, 3), true), ' ';
rewind($f);
echo stream_get_contents($f), "\n";
fclose($f);
echo 'included ', (include __DIR__ . '/part.php'), "\n";
`

// withMedia puts media among a site's files.
func withMedia(t *testing.T, root string) {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, image.NewGray(image.Rect(0, 0, 31, 17))))
	for month := 1; month <= 2; month++ {
		dir := filepath.Join(root, "wp-content/uploads/2026", fmt.Sprintf("%02d", month))
		require.NoError(t, os.MkdirAll(dir, 0o755))
		for i := 1; i <= 20; i++ {
			name := filepath.Join(dir, fmt.Sprintf("berth-%d.png", i))
			require.NoError(t, os.WriteFile(name, append(b.Bytes(), strings.Repeat("x", i)...), 0o644))
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(root, "wp-content/uploads/2026/02/öl 100%25 #1?.png"), b.Bytes(), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "wp-content/uploads/made.css"), []byte("b{}"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "look.php"), []byte(look), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "part.php"), []byte("<?php return 'a part';"), 0o644))
}

// planBehind plans a copy whose media come behind.
func planBehind(t *testing.T, w *realtest.World, live site.Site, name string, php ...string) plan.Plan {
	t.Helper()
	c, err := w.Desk.Copies.CopyDefaults(context.Background(), live, "a test")
	require.NoError(t, err)
	c.Name, c.Media = name, clone.MediaBehind
	if len(php) > 0 {
		c.Runtime.PHP = php[0]
	}
	p, err := w.Desk.Copies.PlanCopy(context.Background(), live.ID, c)
	require.NoError(t, err)
	require.True(t, p.Target.Behind)
	return p
}

func TestMediaComeBehindACopyThatAnswers(t *testing.T) {
	var w *realtest.World
	var there []string
	var page, looked, asked string
	w = realtest.New(t, realtest.Options{Own: true, Change: []func(*desk.Options){demotest.Once("media begin", func() {
		s := w.Site("soon")
		assert.True(t, s.Behind)
		assert.Equal(t, site.Ready, s.State)
		there, _ = filepath.Glob(filepath.Join(s.Root, "wp-content/uploads/2026/*/*"))
		assert.FileExists(t, filepath.Join(s.Root, "wp-content/uploads/made.css"), "styles are no media")
		_, page = clonetest.Ask(t, s, "/")
		resp, body := clonetest.Ask(t, s, "/wp-content/uploads/2026/02/berth-20.png")
		assert.Equal(t, http.StatusOK, resp.StatusCode)
		assert.Equal(t, "image/png", resp.Header.Get("Content-Type"))
		asked = body
		resp, _ = clonetest.Ask(t, s, "/wp-content/uploads/2026/02/%C3%B6l%20100%2525%20%231%3F.png")
		assert.Equal(t, http.StatusOK, resp.StatusCode)
		resp, _ = clonetest.Ask(t, s, "/wp-content/uploads/2026/02/none.png")
		assert.Equal(t, http.StatusNotFound, resp.StatusCode)
		resp, looked = clonetest.Ask(t, s, "/look.php")
		assert.Equal(t, http.StatusOK, resp.StatusCode)
		assert.NoError(t, os.WriteFile(filepath.Join(s.Root, "wp-content/uploads/2026/01/berth-8.png"), []byte("mine"),
			0o644))
	})}})
	pier := w.Machine("pier")
	live := w.Make("ferry", on(pier))
	withMedia(t, live.Root)
	w.Keep()
	r := w.Run(planBehind(t, w, live, "soon"))
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Empty(t, there, "it answers before any of them is there")
	clonetest.Has(t, page, "<b>COPY</b>")
	want, err := os.ReadFile(filepath.Join(live.Root, "wp-content/uploads/2026/02/berth-20.png"))
	require.NoError(t, err)
	assert.Equal(t, string(want), asked)
	size := func(i int) int { return len(want) - 20 + i }
	assert.Equal(t, fmt.Sprintf("image 31\nthere true %d\nread %d\nnone false\nlisted 20\niterated 20\nodd 1\ngone true\n"+
		"renamed true\nwritten 4\nmade true\nlocked true 6 true abc\nincluded a part\n", size(3), size(4)), looked)

	s := w.Site("soon")
	assert.False(t, s.Behind)
	got := clonetest.Holds(t, w, s)
	assert.Equal(t, evidence.Changed, got["files"].Verdict)
	assert.NotContains(t, strings.Join(got["files"].Where, " "), "berth-9.png")
	for _, name := range []string{"berth-5.png", "berth-6.png", "berth-7.png", "berth-8.png"} {
		assert.Contains(t, strings.Join(got["files"].Where, " "), name, "what was done to it is told")
	}
	for name, want := range map[string]bool{"01/berth-5.png": false, "01/berth-6.png": false, "01/moved.png": true,
		"01/berth-9.png": true, "02/berth-1.png": true} {
		_, err := os.Stat(filepath.Join(s.Root, "wp-content/uploads/2026", name))
		assert.Equal(t, want, err == nil, name)
	}
	for _, name := range []string{"berth-7.png", "berth-8.png"} {
		b, err := os.ReadFile(filepath.Join(s.Root, "wp-content/uploads/2026/01", name))
		require.NoError(t, err)
		assert.Equal(t, "mine", string(b), "what a person wrote stays")
	}
	assert.NoDirExists(t, filepath.Join(filepath.Dir(s.Root), "behind"))
	_, looked = clonetest.Ask(t, s, "/look.php")
	assert.Contains(t, looked, "none false\nlisted 20", "and all goes on without us")
}

func TestCodeWaitsForMediaUnderEachPHP(t *testing.T) {
	var looked string
	var w *realtest.World
	var do func()
	w = realtest.New(t, realtest.Options{Own: true, Change: []func(*desk.Options){func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if m.Step+" "+m.Phase == "media begin" {
				do()
			}
		}
	}}})
	pier := w.Machine("pier")
	live := w.Make("ferry", on(pier))
	withMedia(t, live.Root)
	w.Keep()
	for _, version := range []string{"7.4", "8.4"} {
		name := "php-" + strings.ReplaceAll(version, ".", "")
		do = func() { _, looked = clonetest.Ask(t, w.Site(name), "/look.php") }
		r := w.Run(planBehind(t, w, live, name, version))
		require.Equal(t, plan.Done, r.State, r.Error)
		assert.Regexp(t, `^image 31\nthere true \d+\nread \d+\nnone false\nlisted 20\niterated 20\nodd 1\ngone true\n`+
			`renamed true\nwritten 4\nmade true\nlocked true 6 true abc\nincluded a part\n$`, looked, version)
		assert.Contains(t, clonetest.Holds(t, w, w.Site(name))["runtime"].Copy, "PHP "+version)
	}
}

// allThere wants all media of the live site on the copy, and nothing else of ours beside it.
func allThere(t *testing.T, w *realtest.World, live site.Site, name string) {
	t.Helper()
	s := w.Site(name)
	assert.Equal(t, site.Ready, s.State)
	assert.False(t, s.Behind)
	clonetest.Judged(t, live, s)
	clonetest.Holds(t, w, s)
	assert.NoDirExists(t, filepath.Join(filepath.Dir(s.Root), "behind"))
}

func TestKilledWhileMediaComeBehind(t *testing.T) {
	w := realtest.New(t, realtest.Options{Own: true})
	pier := w.Machine("pier")
	live := w.Make("ferry", on(pier))
	withMedia(t, live.Root)
	for _, m := range []string{"media begin", "media progress", "media end", "evidence progress"} {
		t.Run(m, func(t *testing.T) {
			name := "k-" + strings.ReplaceAll(m, " ", "-")
			r, err := w.Desk.Runs.Start(context.Background(), planBehind(t, w, live, name))
			require.NoError(t, err)
			demotest.KilledAt(t, w.World, m)
			demotest.Resumed(t, w.World, r.ID)
			allThere(t, w, live, name)
		})
	}
}

func TestCancelledAndCutWhileMediaComeBehind(t *testing.T) {
	ctx := context.Background()
	var w *realtest.World
	var do func(m work.Moment)
	w = realtest.New(t, realtest.Options{Own: true, Change: []func(*desk.Options){func(o *desk.Options) {
		o.Observe = func(m work.Moment) {
			if now := do; now != nil && m.Step+" "+m.Phase == "media progress" {
				do = nil
				now(m)
			}
		}
	}}})
	pier := w.Machine("pier")
	live := w.Make("ferry", on(pier))
	withMedia(t, live.Root)
	w.Keep()

	do = func(m work.Moment) { assert.NoError(t, w.Desk.Workings().Queue.Cancel(ctx, m.Run)) }
	r := w.Run(planBehind(t, w, live, "cancelled"))
	require.Equal(t, plan.Cancelled, r.State, r.Error)
	assert.NoDirExists(t, w.Desk.Workings().Env.CopyDir("cancelled"))
	clonetest.NothingLeft(t, w)

	was := clone.BehindFiles
	clone.BehindFiles = 3
	defer func() { clone.BehindFiles = was }()
	do = func(work.Moment) {
		n, err := pier.Cut()
		assert.NoError(t, err)
		assert.Positive(t, n)
	}
	r = w.Run(planBehind(t, w, live, "cut"))
	require.Equal(t, plan.Done, r.State, r.Error)
	assert.Greater(t, r.Tries, 1)
	allThere(t, w, live, "cut")

	uploads := filepath.Join(live.Root, "wp-content/uploads")
	do = func(work.Moment) { assert.NoError(t, os.Rename(uploads, uploads+"-away")) }
	r = w.Run(planBehind(t, w, live, "gone"))
	require.Equal(t, plan.Stopped, r.State, "the origin's files are gone: what is left is no state of it")
	assert.Regexp(t, `bringing the media: \d+ of 4\d, the first: .*vanish.*see whether the origin is being moved`, r.Error)
	assert.Equal(t, site.Failed, w.Site("gone").State)
	resp, _ := clonetest.Ask(t, w.Site("gone"), "/")
	assert.Equal(t, http.StatusServiceUnavailable, resp.StatusCode)
	require.NoError(t, os.Rename(uploads+"-away", uploads))
	_, err := w.Desk.Workings().Queue.Resume(ctx, r.ID)
	require.NoError(t, err)
	r, err = w.Desk.Runs.Await(ctx, r.ID, nil)
	require.NoError(t, err)
	require.Equal(t, plan.Done, r.State, r.Error)
	allThere(t, w, live, "gone")
}
