package op

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/inventory"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// standing is a site of the stack that runs PHP, in a record of its own.
func standing(t *testing.T, role site.Role) (*Env, site.Site) {
	t.Helper()
	e := env(t)
	e.Now, e.Secret = time.Now, []byte("a secret")
	var err error
	e.Record, err = inventory.Open(filepath.Join(e.Home, "record.db"))
	require.NoError(t, err)
	t.Cleanup(func() { e.Record.Close() })
	s := site.Site{
		ID:    "s1",
		Name:  "winter",
		Role:  role,
		State: site.Ready,
		Host:  "slipway",
		Stack: "wordpress",
		Root:  filepath.Join(e.CopyDir("winter"), "now", "public"),
	}
	require.NoError(t, os.MkdirAll(filepath.Join(s.Root, "wp-content"), 0o755))
	require.NoError(t, e.Record.PutSite(context.Background(), s))
	require.NoError(t, e.Record.In(context.Background(), func(tx *inventory.Tx) error {
		return tx.Claim(context.Background(), run, plan.Claim{Site: s.ID, Alone: true}, "")
	}))
	return e, s
}

// run has claimed the tests' site.
const run = "r1"

func TestASiteIsWrittenToByWhoHasItForItselfOnly(t *testing.T) {
	ctx := context.Background()
	e, s := standing(t, site.Live)
	root, err := e.Write(ctx, run, s, s.Root)
	require.NoError(t, err)
	require.NoError(t, root.Close())
	read := func(tx *inventory.Tx) error { return tx.Claim(ctx, "r2", plan.Claim{Site: "s2"}, "") }
	require.NoError(t, e.Record.In(ctx, read))
	s2 := s
	s2.ID = "s2"
	for name, err := range map[string]error{
		"another run":             second(e.Write(ctx, "r2", s, s.Root)),
		"another site":            second(e.Write(ctx, run, s2, s.Root)),
		"a site that it may read": second(e.Write(ctx, "r2", s2, s.Root)),
		"nobody":                  second(e.Write(ctx, "", s, s.Root)),
		"its tables":              second(e.Edit(ctx, "r2", s, "x")),
		"its notice":              e.Shut(ctx, "r2", s, site.Front{Kind: site.FrontParked}),
	} {
		assert.ErrorIs(t, err, ErrUnclaimed, name)
	}
	_, _, err = e.Halves(ctx, "r2", s)
	assert.ErrorIs(t, err, ErrUnclaimed)
	require.NoError(t, e.Record.In(ctx, func(tx *inventory.Tx) error { return tx.Release(ctx, run) }))
	_, err = e.Write(ctx, run, s, s.Root)
	assert.ErrorIs(t, err, ErrUnclaimed, "the run is over")
}

func second[T any](_ T, err error) error { return err }

func TestANoticeStandsBeforeALiveSiteAndGoesAgain(t *testing.T) {
	ctx := context.Background()
	e, s := standing(t, site.Live)
	own := filepath.Join(s.Root, "wp-content/maintenance.php")
	require.NoError(t, os.WriteFile(own, []byte("<?php // the site's own page\n"), 0o644))
	f := site.Front{
		Kind:    site.FrontParked,
		Text:    "back <?php echo 1; at noon & later",
		Contact: "quay@skerryline.example",
	}
	for range 2 { // a second time, as after a kill, changes nothing
		require.NoError(t, e.Shut(ctx, run, s, f))
		text, err := os.ReadFile(own)
		require.NoError(t, err)
		assert.Contains(t, string(text), NoticeMark)
		assert.Contains(t, string(text), "mailto:quay@skerryline.example")
		assert.Equal(t, 1, strings.Count(string(text), "<?php"), "what people write is no code")
		assert.FileExists(t, filepath.Join(s.Root, ".maintenance"))
	}
	now, err := e.Record.Site(ctx, s.ID)
	require.NoError(t, err)
	assert.Equal(t, site.Parked, now.State)
	for range 2 {
		require.NoError(t, e.Lift(ctx, run, s))
		text, err := os.ReadFile(own)
		require.NoError(t, err)
		assert.Equal(t, "<?php // the site's own page\n", string(text), "the site's own page is back")
		assert.NoFileExists(t, filepath.Join(s.Root, ".maintenance"))
	}
	now, err = e.Record.Site(ctx, s.ID)
	require.NoError(t, err)
	assert.Equal(t, site.Ready, now.State)
	assert.Nil(t, now.Front)

	// A file of that name that is not Alibi's is not taken away.
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, ".maintenance"),
		[]byte("<?php $upgrading = 1; // by the site itself\n"), 0o644))
	require.NoError(t, e.Lift(ctx, run, s))
	assert.FileExists(t, filepath.Join(s.Root, ".maintenance"))

	s.Stack = "plain"
	assert.ErrorIs(t, e.Shut(ctx, run, s, f), ErrNoNotice)
	assert.NoError(t, e.Lift(ctx, run, s), "where none can be, none is taken away")
	s.Stack, s.Root = "wordpress", s.Root+"-gone"
	assert.Error(t, e.Shut(ctx, run, s, f))
}

func TestOfACopyTheRecordSaysThatItIsShut(t *testing.T) {
	ctx := context.Background()
	e, s := standing(t, site.Copy)
	require.NoError(t, e.Shut(ctx, run, s, site.Front{Kind: site.FrontMaintenance}))
	now, err := e.Record.Site(ctx, s.ID)
	require.NoError(t, err)
	assert.Equal(t, site.FrontMaintenance, now.Front.Kind)
	assert.Equal(t, site.Ready, now.State)
	assert.NoFileExists(t, filepath.Join(s.Root, ".maintenance"), "its gateway shows the notice, no file does")
	require.NoError(t, e.Lift(ctx, run, s))
	now, err = e.Record.Site(ctx, s.ID)
	require.NoError(t, err)
	assert.Nil(t, now.Front)
}

func TestSecretsOfACopy(t *testing.T) {
	a, b := []byte("one"), []byte("two")
	assert.Equal(t, Derive(a, "words", "s1"), Derive(a, "words", "s1"))
	for _, other := range []string{Derive(b, "words", "s1"), Derive(a, "words", "s2"), Derive(a, "scrub", "s1")} {
		assert.NotEqual(t, Derive(a, "words", "s1"), other)
	}
	assert.Len(t, Derive(a, "words", "s1"), 32)
	until := time.Unix(1_800_000_000, 0)
	w := Word("secret", "wake", `{"on":["a/b.php"]}`, until)
	parts := strings.Split(w, ".")
	require.Len(t, parts, 3)
	text, err := hex.DecodeString(parts[0])
	require.NoError(t, err)
	assert.Equal(t, `{"on":["a/b.php"]}`, string(text))
	assert.Equal(t, "1800000000", parts[1])
	m := hmac.New(sha256.New, []byte("secret"))
	m.Write([]byte("wake." + parts[0] + "." + parts[1]))
	assert.Equal(t, hex.EncodeToString(m.Sum(nil)), parts[2])
	assert.NotEqual(t, w, Word("secret", "enter", `{"on":["a/b.php"]}`, until), "a word is for one purpose")
	assert.NotContains(t, w, "secret")
}

func TestWhatACopysCodeAnswers(t *testing.T) {
	w, err := ParseWoken(
		200,
		"Notice: something\n{\"alibi\":{\"php\":\"8.2.1\",\"core\":\"6.8.12\","+
			"\"before\":\"53496\",\"after\":\"60421\"}}trailing",
	)
	require.NoError(t, err)
	assert.Equal(t, Woken{PHP: "8.2.1", Core: "6.8.12", Before: "53496", After: "60421"}, w)
	_, err = ParseWoken(500, "{\"alibi\":{}}")
	assert.ErrorIs(t, err, ErrBroken)
	for status, page := range map[int]string{200: "<html>", 404: "no", 302: ""} {
		_, err = ParseWoken(status, page)
		assert.ErrorContains(t, err, "another Alibi made it")
		assert.NotErrorIs(t, err, ErrBroken)
	}
	_, err = ParseWoken(200, "{\"alibi\":[1,2")
	assert.Error(t, err)
}

func TestComplaintsAreTheErrorsThatEndedRequests(t *testing.T) {
	ctx := context.Background()
	e, s := standing(t, site.Copy)
	assert.Zero(t, e.Mark(ctx, s))
	why, err := e.Complaints(ctx, s, 0)
	require.NoError(t, err)
	assert.Empty(t, why, "nothing was written yet")
	require.NoError(t, os.MkdirAll(Logs(s), 0o755))
	log := filepath.Join(Logs(s), ErrorLog)
	fatal := "[x] PHP Fatal error:  Uncaught Error: Call to undefined function tide() in " + s.Root +
		"/wp-content/a.php:3\n"
	require.NoError(t, os.WriteFile(log, []byte(fatal+"[x] PHP Warning:  mild in /x\n"), 0o644))
	why, err = e.Complaints(ctx, s, 0)
	require.NoError(t, err)
	assert.Equal(t, []string{"Call to undefined function tide() in wp-content/a.php:3"}, why)
	mark := e.Mark(ctx, s)
	assert.Positive(t, mark)
	why, err = e.Complaints(ctx, s, mark)
	require.NoError(t, err)
	assert.Empty(t, why, "only what came since")
	f, err := os.OpenFile(log, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	for range 3 {
		_, err = f.WriteString("PHP Parse error:  syntax error in " + s.Root + "/b.php\n")
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	why, err = e.Complaints(ctx, s, mark)
	require.NoError(t, err)
	assert.Equal(t, []string{"syntax error in b.php"}, why, "each once")
	s.Host = "nowhere"
	_, err = e.Complaints(ctx, s, 0)
	assert.ErrorContains(t, err, "no such host")
	assert.Zero(t, e.Mark(ctx, s))
}

func TestAllThatWasMadeForACopyIsErased(t *testing.T) {
	ctx := context.Background()
	e, s := standing(t, site.Copy)
	other := filepath.Join(e.Home, "elsewhere")
	kept := filepath.Join(e.Home, "another-copys")
	for _, d := range []string{other, kept} {
		require.NoError(t, os.MkdirAll(filepath.Join(d, "deep"), 0o755))
	}
	require.NoError(t, e.Record.AddMade(ctx, inventory.Made{Host: "slipway", Path: other, Site: s.ID, At: time.Now()}))
	require.NoError(t, e.Record.AddMade(ctx, inventory.Made{Host: "slipway", Path: kept, Site: "s2", At: time.Now()}))
	roots, done, err := e.Halves(ctx, run, s)
	require.NoError(t, err)
	assert.Len(t, roots, 1, "a copy on this machine has its two halves in one folder")
	done()
	for range 2 { // as after a kill
		require.NoError(t, e.Erase(ctx, s.ID, s.Name))
		assert.NoDirExists(t, other)
		assert.NoDirExists(t, e.CopyDir(s.Name))
		assert.DirExists(t, kept)
	}
	now, err := e.Record.Site(ctx, s.ID)
	require.NoError(t, err)
	assert.Equal(t, site.Gone, now.State)
	assert.False(t, now.EndedAt.IsZero())
	assert.NoError(t, e.Erase(ctx, "never-there", "nothing"))
}
