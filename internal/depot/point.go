package depot

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"alibi/internal/site"
)

// Point is a restore point: what a site was at a moment.
type Point struct {
	ID    string    `json:"-"` // its file's name
	Site  site.Site `json:"site"`
	Taken time.Time `json:"taken"` // when its rows and files were read
	By    string    `json:"by"`
	Run   string    `json:"run,omitempty"` // that took it
	Kind  Kind      `json:"kind"`
	Name  string    `json:"name,omitempty"` // for people
	Why   string    `json:"why,omitempty"`

	Files   int64             `json:"files"`             // how many, without folders
	Rows    int64             `json:"rows"`              // in all tables
	Bytes   int64             `json:"bytes"`             // of files and rows, as they are
	Added   int64             `json:"added"`             // bytes that the depot grew by
	Missing []string          `json:"missing,omitempty"` // files that could not be read
	Secrets bool              `json:"secrets,omitempty"` // of one from an archive: it had passwords and keys
	List    []ID              `json:"list"`              // the entries, a JSON line each
	Schema  []ID              `json:"schema"`            // tables.Schema as JSON; none without a database
	Tables  []Kept            `json:"tables"`
	Quiet   map[string]string `json:"quiet,omitempty"` // see tables.Dated
}

// Redacted tells whether passwords, their digests and keys were taken out of the
// point: what it has in their places is not the site's.
func (p Point) Redacted() bool { return p.Kind == FromArchive && !p.Secrets }

// Kind is why a point was taken.
type Kind string

const (
	ByHand  Kind = "hand"
	BySched Kind = "schedule"
	// FromArchive is one that was read from an archive.
	FromArchive Kind = "archive"
	BeforeOp    Kind = "before" // before something was written over the site
)

// Kept is one table of a point.
type Kept struct {
	Name  string `json:"name"`
	Rows  int64  `json:"rows"`
	Bytes int64  `json:"bytes"`
	List  []ID   `json:"list"` // its segments' names as JSON, in the order of the key
}

const points = "points/"

// pointName names a point's file by its time and its bytes, so that a changed
// one is found out.
func pointName(p Point, text []byte) string {
	sum := blake3.Sum256(text)
	return points + p.Taken.UTC().Format("20060102-150405") + "-" + hex.EncodeToString(sum[:6]) + ".json"
}

// put stores a point; from then on it is listed.
func (d *Depot) put(ctx context.Context, p Point) (Point, error) {
	text, err := json.MarshalIndent(p, "", " ")
	if err != nil {
		return p, err
	}
	text = append(text, '\n')
	name := pointName(p, text)
	p.ID = strings.TrimSuffix(strings.TrimPrefix(name, points), ".json")
	return p, d.store.Put(ctx, name, text)
}

// Point reads one.
func (d *Depot) Point(ctx context.Context, id string) (Point, error) {
	if id == "" || strings.ContainsAny(id, "/\\") {
		return Point{}, fmt.Errorf("%q: %w", id, ErrUnknown)
	}
	name := points + id + ".json"
	text, err := d.store.Get(ctx, name, 0, -1)
	if errors.Is(err, fs.ErrNotExist) {
		return Point{}, fmt.Errorf("%s: %w", id, ErrUnknown)
	}
	if err != nil {
		return Point{}, err
	}
	var p Point
	dec := json.NewDecoder(bytes.NewReader(text))
	if err := dec.Decode(&p); err != nil {
		return p, fmt.Errorf("%w: %s: %w", ErrDamaged, name, err)
	}
	if pointName(p, text) != name {
		return p, fmt.Errorf("%w: %s is not what it was", ErrDamaged, name)
	}
	p.ID = id
	return p, nil
}

// Points lists all, the newest first. Those that can't be read are named in bad.
func (d *Depot) Points(ctx context.Context) (list []Point, bad []error, err error) {
	names, err := d.store.List(ctx, points)
	if err != nil {
		return nil, nil, err
	}
	d.mu.Lock()
	known := d.points
	d.mu.Unlock()
	seen := make(map[string]Point, len(names))
	defer func() {
		d.mu.Lock()
		d.points = seen
		d.mu.Unlock()
	}()
	for _, s := range names {
		p, ok := known[s.Name]
		err := error(nil)
		if !ok {
			p, err = d.Point(ctx, strings.TrimSuffix(strings.TrimPrefix(s.Name, points), ".json"))
		}
		switch {
		case ctx.Err() != nil:
			return nil, nil, ctx.Err()
		case errors.Is(err, ErrUnknown): // it was removed meanwhile
		case err != nil:
			bad = append(bad, err)
		default:
			seen[s.Name] = p
			list = append(list, p)
		}
	}
	slices.SortFunc(list, func(a, b Point) int {
		return cmp.Or(b.Taken.Compare(a.Taken), strings.Compare(a.ID, b.ID))
	})
	return list, bad, nil
}

// Forget takes a point out of the list. What only it needed stays until the
// depot is pruned.
func (d *Depot) Forget(ctx context.Context, id string) error {
	return d.store.Remove(ctx, points+id+".json")
}
