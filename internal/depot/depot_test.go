package depot

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tree"
)

var posts = tables.Table{Name: "posts", Columns: []tables.Column{{Name: "id"}, {Name: "body"}}, Key: []string{"id"}}

// made is the contents of a small site: files by name, rows by number.
type made struct {
	files map[string][]byte
	rows  map[int64]string
}

func noise(seed uint64, n int) []byte {
	r := rand.New(rand.NewPCG(seed, 1))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

func small() made {
	m := made{
		files: map[string][]byte{
			"a.txt":              []byte("tide"),
			"empty":              nil,
			"pictures/ferry.jpg": noise(1, 6<<20),
			"b\xff.txt":          []byte("odd"),
		},
		rows: map[int64]string{},
	}
	for i := range int64(9000) {
		m.rows[i] = fmt.Sprintf("the %d. tide\twith \\ \n and \x00 %x", i, noise(uint64(i), 30))
	}
	return m
}

// keep takes a point of it.
func keep(t *testing.T, d *Depot, m made, at time.Time) (Point, error) {
	t.Helper()
	ctx := context.Background()
	k, err := d.Take(ctx)
	if err != nil {
		return Point{}, err
	}
	defer k.Close()
	p := Point{Site: site.Site{ID: "ferry", Name: "ferry"}, Taken: at, Kind: ByHand}
	var list []File
	for name, b := range m.files {
		ids, err := k.Stream(bytes.NewReader(b), new([]byte))
		if err != nil {
			return p, err
		}
		list = append(list, File{Entry: tree.Entry{Path: name, Mode: 0o640, Size: int64(len(b)), MTime: at},
			Chunks: ids})
		p.Files++
	}
	if p.List, err = k.Files(list); err != nil {
		return p, err
	}
	if p.Schema, err = k.JSON(tables.Schema{Engine: "mysql", Tables: []tables.Table{posts}}); err != nil {
		return p, err
	}
	rows, err := k.Table(posts, func(give func(tables.Row) error) error {
		for i := range int64(20000) {
			body, ok := m.rows[i]
			if !ok {
				continue
			}
			id := tables.Value{Kind: tables.Int, Int: i}
			if err := give(tables.Row{Key: []tables.Value{id},
				Values: []tables.Value{id, {Kind: tables.Text, Bytes: []byte(body)}}}); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return p, err
	}
	p.Tables, p.Rows = []Kept{rows}, rows.Rows
	return k.Seal(p)
}

// back reads a point.
func back(d *Depot, p Point) (made, error) {
	ctx := context.Background()
	m := made{files: map[string][]byte{}, rows: map[int64]string{}}
	files, err := d.Files(ctx, p)
	if err != nil {
		return m, err
	}
	for _, f := range files {
		var b []byte
		for _, id := range f.Chunks {
			c, err := d.Read(ctx, id)
			if err != nil {
				return m, err
			}
			b = append(b, c...)
		}
		m.files[f.Path] = b
	}
	s, err := d.Schema(ctx, p)
	if err != nil {
		return m, err
	}
	return m, d.Table(ctx, s.Tables[0], p.Tables[0], func(r tables.Row) error {
		m.rows[r.Key[0].Int] = string(r.Values[1].Bytes)
		return nil
	})
}

func open(t *testing.T, s Store) *Depot {
	t.Helper()
	d, err := Open(context.Background(), s)
	require.NoError(t, err)
	return d
}

func holds(t *testing.T, s Store, p Point, want made) {
	t.Helper()
	got, err := back(open(t, s), p)
	require.NoError(t, err)
	assert.Equal(t, want.rows, got.rows)
	for name, b := range want.files {
		assert.True(t, bytes.Equal(b, got.files[name]), "%q", name)
	}
	assert.Len(t, got.files, len(want.files))
}

func size(t *testing.T, s Store) (n int64) {
	t.Helper()
	list, err := s.List(context.Background(), packs)
	require.NoError(t, err)
	for _, x := range list {
		n += x.Size
	}
	return n
}

var noon = time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)

func TestPointsShareWhatIsEqual(t *testing.T) {
	ctx := context.Background()
	f := Folder(t.TempDir())
	m := small()
	p1, err := keep(t, open(t, f), m, noon)
	require.NoError(t, err)
	first := size(t, f)
	assert.InDelta(t, first, p1.Added, 1)
	m2 := small()
	m2.rows[4321] = "another"
	m2.rows[9999] = "more"
	delete(m2.rows, 17)
	pic := bytes.Clone(m2.files["pictures/ferry.jpg"])
	m2.files["pictures/ferry.jpg"] = append(append(bytes.Clone(pic[:3<<20]), "something in the midst"...),
		pic[3<<20:]...)
	p2, err := keep(t, open(t, f), m2, noon.Add(time.Hour))
	require.NoError(t, err)
	assert.Less(t, p2.Added, first/4, "what is put in moves no cut behind it")
	holds(t, f, p1, m)
	holds(t, f, p2, m2)
	list, bad, err := open(t, f).Points(ctx)
	require.NoError(t, err)
	assert.Empty(t, bad)
	require.Len(t, list, 2)
	assert.Equal(t, p2.ID, list[0].ID, "the newest first")

	// The first is forgotten: what only it needed goes, the second stays whole.
	d := open(t, f)
	require.NoError(t, d.Forget(ctx, p1.ID))
	_, err = d.Point(ctx, p1.ID)
	assert.ErrorIs(t, err, ErrUnknown)
	_, err = d.Prune(ctx, false)
	require.NoError(t, err)
	holds(t, f, p2, m2)
	require.NoError(t, d.Forget(ctx, p2.ID))
	would, err := d.Prune(ctx, true)
	require.NoError(t, err)
	assert.Equal(t, size(t, f), would.Bytes)
	done, err := d.Prune(ctx, false)
	require.NoError(t, err)
	assert.Equal(t, would, done)
	assert.Zero(t, size(t, f))
}

func TestASparsePackIsPackedAnew(t *testing.T) {
	ctx := context.Background()
	f := Folder(t.TempDir())
	m := small()
	p1, err := keep(t, open(t, f), m, noon)
	require.NoError(t, err)
	delete(m.files, "pictures/ferry.jpg")
	p2, err := keep(t, open(t, f), m, noon.Add(time.Hour))
	require.NoError(t, err)
	d := open(t, f)
	before := size(t, f)
	require.NoError(t, d.Forget(ctx, p1.ID))
	out, err := d.Prune(ctx, false)
	require.NoError(t, err)
	assert.Positive(t, out.Repacked)
	assert.Less(t, size(t, f), before/2)
	holds(t, f, p2, m)
	faults, err := open(t, f).Verify(ctx, func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, faults)
}

// dying is a store whose process dies after so many changes: nothing happens
// any more.
type dying struct {
	Store
	left int
}

var errDied = errors.New("died")

func (s *dying) change(do func() error) error {
	if s.left == 0 {
		return errDied
	}
	s.left--
	return do()
}

func (s *dying) Put(ctx context.Context, name string, b []byte) error {
	return s.change(func() error { return s.Store.Put(ctx, name, b) })
}

func (s *dying) Remove(ctx context.Context, name string) error {
	return s.change(func() error { return s.Store.Remove(ctx, name) })
}

func TestADeathAtAnyMomentLosesNoListedPoint(t *testing.T) {
	ctx := context.Background()
	f := Folder(t.TempDir())
	first, second := small(), small()
	second.files["pictures/ferry.jpg"] = noise(7, 5<<20)
	delete(second.files, "a.txt")
	p1, err := keep(t, open(t, f), first, noon)
	require.NoError(t, err)
	var p2 Point
	for n := 0; ; n++ {
		if p2, err = keep(t, open(t, &dying{f, n}), second, noon.Add(time.Hour)); err == nil {
			break
		}
		require.ErrorIs(t, err, errDied)
		holds(t, f, p1, first)
		list, bad, err := open(t, f).Points(ctx)
		require.NoError(t, err)
		assert.Empty(t, bad)
		assert.Len(t, list, 1, "half a point is not listed")
	}
	holds(t, f, p2, second)
	require.NoError(t, open(t, f).Forget(ctx, p1.ID))
	for n := 0; ; n++ {
		_, err := open(t, &dying{f, n}).Prune(ctx, false)
		holds(t, f, p2, second)
		if err == nil {
			break
		}
		require.ErrorIs(t, err, errDied)
	}
	faults, err := open(t, f).Verify(ctx, func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, faults)
}

func TestAFlippedBitIsFoundInEveryFile(t *testing.T) {
	ctx := context.Background()
	f := Folder(t.TempDir())
	p, err := keep(t, open(t, f), small(), noon)
	require.NoError(t, err)
	all, err := f.List(ctx, "p")
	require.NoError(t, err)
	require.Greater(t, len(all), 1)
	for _, s := range all {
		text, err := os.ReadFile(f.at(s.Name))
		require.NoError(t, err)
		for _, at := range []int{0, len(text) / 3, len(text) - 12, len(text) - 2} {
			hurt := bytes.Clone(text)
			hurt[at] ^= 4
			require.NoError(t, os.WriteFile(f.at(s.Name), hurt, 0o600))
			faults, err := open(t, f).Verify(ctx, func(int64) {})
			require.NoError(t, err)
			require.NotEmpty(t, faults, "%s at %d", s.Name, at)
			assert.Contains(t, faults[0].What, s.Name)
			_, err = open(t, f).Prune(ctx, false)
			if err != nil {
				assert.ErrorContains(t, err, "nothing was removed")
			}
		}
		require.NoError(t, os.WriteFile(f.at(s.Name), text, 0o600))
	}
	require.NoError(t, os.Remove(f.at(all[0].Name)))
	faults, err := open(t, f).Verify(ctx, func(int64) {})
	require.NoError(t, err)
	require.Len(t, faults, 1)
	assert.Equal(t, []string{p.ID}, faults[0].Points)
	assert.Contains(t, faults[0].What, "missing")
}

func TestForeignFoldersAndLocks(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "letter.txt"), nil, 0o600))
	_, err := Open(ctx, Folder(dir))
	assert.ErrorIs(t, err, ErrForeign)
	for _, doc := range []string{"{", `{"format":"else","version":1}`, `{"format":"alibi-depot","version":99}`} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, about), []byte(doc), 0o600))
		_, err := Open(ctx, Folder(dir))
		assert.ErrorIs(t, err, ErrForeign, doc)
	}
	f := Folder(t.TempDir())
	d := open(t, f)
	k, err := d.Take(ctx)
	require.NoError(t, err)
	_, err = open(t, f).Prune(ctx, false)
	assert.ErrorIs(t, err, ErrBusy, "a point is being taken")
	other, err := open(t, f).Take(ctx)
	require.NoError(t, err, "two points at once")
	other.Close()
	k.Close()
	_, err = d.Prune(ctx, false)
	require.NoError(t, err)
	for _, id := range []string{"", "..", "../depot", "none"} {
		_, err := d.Point(ctx, id)
		assert.ErrorIs(t, err, ErrUnknown, id)
	}
	_, err = f.Get(ctx, "none", 0, -1)
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

func TestRowsAreKeptToTheByte(t *testing.T) {
	value := rapid.Custom(func(t *rapid.T) tables.Value {
		switch k := tables.Kind(rapid.IntRange(0, 4).Draw(t, "kind")); k {
		case tables.Int:
			return tables.Value{Kind: k, Int: rapid.Int64().Draw(t, "int")}
		case tables.Float:
			return tables.Value{Kind: k, Float: rapid.Float64().Draw(t, "float")}
		case tables.Null:
			return tables.Value{}
		default:
			return tables.Value{
				Kind: k,
				Bytes: rapid.SliceOf(rapid.SampledFrom([]byte{0, 1, '\\', '\t', '\n', 'n', 't', '0', 'N', 0xff,
					'x'})).Draw(t, "bytes"),
			}
		}
	})
	plain := func(v tables.Value) tables.Value {
		if v.Kind != tables.Text && v.Kind != tables.Blob {
			v.Bytes = nil
		} else if len(v.Bytes) == 0 {
			v.Bytes = []byte{}
		}
		return v
	}
	hidden := tables.Table{Name: "h", Columns: posts.Columns, Key: []string{"rowid"}, Hidden: true}
	rapid.Check(t, func(t *rapid.T) {
		r := tables.Row{
			Key:    []tables.Value{value.Draw(t, "key")},
			Values: []tables.Value{value.Draw(t, "a"), value.Draw(t, "b")},
		}
		got := 0
		err := tables.ReadRows(tables.AppendRow(tables.AppendRow(nil, hidden, r), hidden, r), hidden, func(x tables.Row,
		) error {
			got++
			for i, v := range append(append([]tables.Value{}, r.Key...), r.Values...) {
				assert.Equal(t, plain(v), plain(append(append([]tables.Value{}, x.Key...), x.Values...)[i]))
			}
			return nil
		})
		if err != nil || got != 2 {
			t.Fatalf("%d rows: %v", got, err)
		}
	})
}

func FuzzReadRows(f *testing.F) {
	f.Add([]byte("i1\ttx\\n\n\\N\t\\N\n"))
	f.Fuzz(func(_ *testing.T, b []byte) {
		_ = tables.ReadRows(bytes.Clone(b), posts, func(tables.Row) error { return nil })
	})
}

func TestCutIsTheSameHoweverItIsRead(t *testing.T) {
	b := noise(3, 9<<20)
	var whole, slow []ID
	require.NoError(t, Cut(bytes.NewReader(b), new([]byte), func(c []byte) error {
		assert.LessOrEqual(t, len(c), maxChunk)
		whole = append(whole, Sum(c))
		return nil
	}))
	require.NoError(t, Cut(oneByOne{strings.NewReader(string(b))}, new([]byte),
		func(c []byte) error { slow = append(slow, Sum(c)); return nil }))
	assert.Equal(t, whole, slow)
	assert.Greater(t, len(whole), 6)
}

// oneByOne gives odd little pieces.
type oneByOne struct{ r *strings.Reader }

func (o oneByOne) Read(p []byte) (int, error) { return o.r.Read(p[:min(len(p), 777)]) }

func TestWhatIsDamagedIsSetAsideAndStoredAnew(t *testing.T) {
	ctx := context.Background()
	f := Folder(t.TempDir())
	m := small()
	p1, err := keep(t, open(t, f), m, noon)
	require.NoError(t, err)
	all, err := f.List(ctx, packs)
	require.NoError(t, err)
	for _, s := range all {
		text, err := os.ReadFile(f.at(s.Name))
		require.NoError(t, err)
		text[len(text)/3] ^= 1
		require.NoError(t, os.WriteFile(f.at(s.Name), text, 0o600))
	}
	for n := 0; ; n++ { // whoever dies over it can do it again
		out, err := open(t, &dying{f, n}).Mend(ctx)
		if err == nil {
			assert.Positive(t, out.Saved+out.Lost)
			break
		}
		require.ErrorIs(t, err, errDied)
	}
	faults, err := open(t, f).Verify(ctx, func(int64) {})
	require.NoError(t, err)
	require.Len(t, faults, 1, "the point misses what is lost")
	assert.Equal(t, []string{p1.ID}, faults[0].Points)
	p2, err := keep(t, open(t, f), m, noon.Add(time.Hour))
	require.NoError(t, err)
	assert.Positive(t, p2.Added)
	faults, err = open(t, f).Verify(ctx, func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, faults, "the next one made both whole")
	holds(t, f, p1, m)
	holds(t, f, p2, m)
	out, err := open(t, f).Mend(ctx)
	require.NoError(t, err)
	assert.Empty(t, out.Packs)
}
