package carry_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/op/carry"
	"alibi/internal/site"
)

func textOf(t *testing.T, s site.Site, name string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(s.Root, name))
	require.NoError(t, err)
	return string(text)
}

// Of a file that both sides changed in different lines both get both changes; where they changed the same lines people
// decide, or write it.
func TestFilesAreMergedByTheirLines(t *testing.T) {
	ctx := context.Background()
	w, live, s := pair(t)
	const notes = "notes/harbours.md"
	was := textOf(t, live, skin+"style.css")
	write(t, live, map[string]string{skin + "style.css": was + "\n.of-live { color: teal; }\n"})
	write(t, s, map[string]string{skin + "style.css": "/* of the copy */\n" + was})
	it := drifted(t, w, s)[0]
	assert.True(t, it.Merges, line(it))
	require.NotNil(t, it.Versions[len(it.Versions)-1].Was)
	assert.Equal(t, was, *it.Versions[len(it.Versions)-1].Was)
	_, r := carried(t, w, s, carry.Wish{To: carry.Live, All: true})
	merged := "/* of the copy */\n" + was + "\n.of-live { color: teal; }\n"
	assert.Equal(t, merged, textOf(t, live, skin+"style.css"))
	assert.Equal(t, []string{`theme:skerry theme "Skerry" copy  live changed: style.css`}, lines(drifted(t, w, s)))
	undone(t, w, r.ID)
	assert.Equal(t, was+"\n.of-live { color: teal; }\n", textOf(t, live, skin+"style.css"))
	assert.True(t, drifted(t, w, s)[0].Merges)
	p, err := bothWays(w, s, nil)
	require.NoError(t, err)
	r = w.Run(p)
	require.Empty(t, r.Error)
	assert.Empty(t, lines(drifted(t, w, s)))
	assert.Equal(t, merged, textOf(t, s, skin+"style.css"))

	second := strings.Replace(merged, "teal", "navy", 1)
	write(t, live, map[string]string{skin + "style.css": second, notes: "Quay\n"})
	write(t, s, map[string]string{skin + "style.css": strings.Replace(merged, "teal", "grey", 1), notes: "Pier\n"})
	p, err = bothWays(w, s, nil)
	require.NoError(t, err)
	assert.True(t, p.Blocked(), "both changed one line, and both made a file")
	list, err := w.Desk.Copies.Conflicts(ctx, s.ID, "", "theme:skerry")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "style.css", list[0].Field)
	assert.Contains(t, list[0].Text, "||||||| as both had it\n.of-live { color: teal; }\n=======\n",
		"what was carried is what both have in common now")
	made, err := w.Desk.Copies.Conflicts(ctx, s.ID, "", "file:"+notes)
	require.NoError(t, err)
	require.Len(t, made, 1)
	wish := carry.Wish{All: true, Hand: map[string]map[string]string{
		"theme:skerry": {list[0].Place: "a{}\n"}, "file:" + notes: {made[0].Place: "Quay and pier\n"}}}
	p, err = w.Desk.Copies.PlanSync(ctx, s.ID, wish, wish)
	require.NoError(t, err)
	r = w.Run(p)
	require.Empty(t, r.Error)
	for _, side := range []site.Site{live, s} {
		assert.Equal(t, "a{}\n", textOf(t, side, skin+"style.css"))
		assert.Equal(t, "Quay and pier\n", textOf(t, side, notes))
	}
	assert.Empty(t, lines(drifted(t, w, s)))

	const hours = "notes/hours.md"
	write(t, live, map[string]string{hours: "8 to 4\n"})
	write(t, s, map[string]string{hours: "9 to 5\n"})
	made, err = w.Desk.Copies.Conflicts(ctx, s.ID, "", "file:"+hours)
	require.NoError(t, err)
	_, r = carried(t, w, s, carry.Wish{To: carry.Copy, All: true,
		Hand: map[string]map[string]string{"file:" + hours: {made[0].Place: "8 to 5\n"}}})
	assert.Equal(t, []string{`file:` + hours + ` file "hours.md" copy changed live : ` + hours}, lines(drifted(t, w, s)))
	carried(t, w, s, carry.Wish{To: carry.Live, All: true})
	assert.Equal(t, "8 to 5\n", textOf(t, live, hours))
	assert.Empty(t, lines(drifted(t, w, s)))

	own := s.Address().HostPort()
	write(t, live, map[string]string{notes: "Quay and pier\nof live\n"})
	write(t, s, map[string]string{notes: "see " + own + "\nQuay and pier\n"})
	p, err = w.Desk.Copies.PlanSync(ctx, s.ID, carry.Wish{To: carry.Live, All: true})
	require.NoError(t, err)
	assert.True(t, p.Blocked(), "what is merged may hold what is the copy's")
	require.NoError(t, os.WriteFile(filepath.Join(s.Root, notes), []byte("\x00\xff"), 0o644))
	_, err = w.Desk.Copies.Conflicts(ctx, s.ID, "", "file:"+notes)
	assert.ErrorContains(t, err, "can't be decided by hand", "it is no text")
}
