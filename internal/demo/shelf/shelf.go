// Package shelf is a stand-in for the public catalogue of plugins, themes and
// cores: it speaks the part of its HTTP interface that is used here
// (https://codex.wordpress.org/WordPress.org_API), and has made-up plugins and
// themes in several versions. Some of them do harm, for trying what happens then.
package shelf

import (
	"archive/zip"
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"alibi/internal/site"
)

// Item is one version of a made-up plugin or theme.
type Item struct {
	Kind         site.ComponentKind
	Slug, Name   string
	Version      string
	RequiresCore string
	RequiresPHP  string
	Requires     []string
	Text         string
	Files        map[string]string // by path below its folder
}

// Shelf answers as the catalogue.
type Shelf struct {
	Items []Item
	Cores map[string]string // folder of a core, by version
	// Change lets a test have it lie: it may answer in its place.
	Change func(w http.ResponseWriter, r *http.Request) bool

	mu    sync.Mutex
	cores map[string][]byte
}

// New has all made-up items, and the cores that are in a folder by their version.
func New(cores string) *Shelf {
	s := &Shelf{Items: items(), Cores: map[string]string{}}
	list, _ := os.ReadDir(cores) // without one there are none
	for _, e := range list {
		if dir := filepath.Join(cores, e.Name()); e.IsDir() && exists(filepath.Join(dir, "wp-includes/version.php")) {
			s.Cores[e.Name()] = dir
		}
	}
	return s
}

func exists(name string) bool {
	_, err := os.Stat(name)
	return err == nil
}

// Serve answers on a free loopback port until it is closed.
func (s *Shelf) Serve() (address string, closed func(), err error) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", nil, fmt.Errorf("starting the stand-in catalogue: %w", err)
	}
	srv := &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = srv.Serve(ln) }()
	return "http://" + ln.Addr().String(), func() { srv.Close() }, nil
}

// versions are those of a slug, newest first.
func (s *Shelf) versions(kind site.ComponentKind, slug string) (out []Item) {
	for _, i := range s.Items {
		if i.Kind == kind && i.Slug == slug {
			out = append(out, i)
		}
	}
	slices.SortFunc(out, func(a, b Item) int { return site.CompareVersions(b.Version, a.Version) })
	return out
}

// ServeHTTP answers one question.
func (s *Shelf) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if s.Change != nil && s.Change(w, r) {
		return
	}
	base := "http://" + r.Host
	switch p := r.URL.Path; {
	case strings.HasPrefix(p, "/plugins/info/"):
		s.info(w, r, base, site.Plugin)
	case strings.HasPrefix(p, "/themes/info/"):
		s.info(w, r, base, site.Theme)
	case strings.HasPrefix(p, "/core/"):
		s.core(w, r, base)
	case strings.HasPrefix(p, "/plugin-checksums/"):
		slug, version, _ := strings.Cut(strings.TrimSuffix(strings.TrimPrefix(p, "/plugin-checksums/"), ".json"), "/")
		s.sums(w, slug, version)
	case strings.HasPrefix(p, "/download/"):
		s.download(w, r, strings.TrimSuffix(filepath.Base(p), ".zip"))
	default:
		http.NotFound(w, r)
	}
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // a client that is gone asks again
}

// tell is what the interface says of a plugin or a theme.
func tell(list []Item, base string) map[string]any {
	i := list[0]
	link := func(x Item) string { return fmt.Sprintf("%s/download/%s.%s.zip", base, x.Slug, x.Version) }
	versions := map[string]string{}
	for _, x := range list {
		versions[x.Version] = link(x)
	}
	orFalse := func(v string) any {
		if v == "" {
			return false
		}
		return v
	}
	return map[string]any{
		"name":              i.Name,
		"slug":              i.Slug,
		"version":           i.Version,
		"author":            "<a href=\"https://stowage.example/\">Stowage Works</a>",
		"requires":          orFalse(i.RequiresCore),
		"requires_php":      orFalse(i.RequiresPHP),
		"tested":            "6.8",
		"requires_plugins":  i.Requires,
		"short_description": i.Text,
		"download_link":     link(i),
		"versions":          versions,
	}
}

func (s *Shelf) info(w http.ResponseWriter, r *http.Request, base string, kind site.ComponentKind) {
	q := r.URL.Query()
	if strings.HasPrefix(q.Get("action"), "query_") {
		found := []any{}
		seen := map[string]bool{}
		for _, i := range s.Items {
			if i.Kind == kind && !seen[i.Slug] &&
				strings.Contains(strings.ToLower(i.Slug+" "+i.Name+" "+i.Text),
					strings.ToLower(q.Get("request[search]"))) {
				seen[i.Slug] = true
				found = append(found, tell(s.versions(kind, i.Slug), base))
			}
		}
		answer(w, http.StatusOK, map[string]any{string(kind) + "s": found,
			"info": map[string]any{"results": len(found)}})
		return
	}
	list := s.versions(kind, q.Get("request[slug]"))
	if len(list) == 0 {
		answer(w, http.StatusNotFound, map[string]string{"error": "not found."})
		return
	}
	answer(w, http.StatusOK, tell(list, base))
}

// have lists the cores, newest first.
func (s *Shelf) have() (out []string) {
	for v := range s.Cores {
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b string) int { return site.CompareVersions(b, a) })
	return out
}

func (s *Shelf) core(w http.ResponseWriter, r *http.Request, base string) {
	list := s.have()
	if strings.HasPrefix(r.URL.Path, "/core/stable-check/") {
		all := map[string]string{}
		for i, v := range list {
			all[v] = site.Either(i == 0, "latest", "outdated")
		}
		answer(w, http.StatusOK, all)
		return
	}
	offers := []any{}
	for _, v := range list[:min(1, len(list))] {
		link := base + "/download/wordpress-" + v + ".zip"
		offers = append(
			offers,
			map[string]any{
				"response": "upgrade",
				"download": link,
				"packages": map[string]string{"full": link},
				"version":  v,
				"current":  v,
			},
		)
	}
	answer(w, http.StatusOK, map[string]any{"offers": offers})
}

// one finds an item by slug and version.
func (s *Shelf) one(slug, version string) *Item {
	for k := range s.Items {
		if i := &s.Items[k]; i.Slug == slug && i.Version == version {
			return i
		}
	}
	return nil
}

func (s *Shelf) sums(w http.ResponseWriter, slug, version string) {
	i := s.one(slug, version)
	if i == nil {
		answer(w, http.StatusNotFound, map[string]string{"error": "not found"})
		return
	}
	files := map[string]any{}
	for name, text := range i.Files {
		sum := sha256.Sum256([]byte(text))
		files[name] = map[string]any{"sha256": hex.EncodeToString(sum[:])}
	}
	answer(w, http.StatusOK, map[string]any{"plugin": slug, "version": version, "files": files})
}

// made is when everything on the shelf was made.
var made = time.Date(2026, 3, 14, 9, 30, 0, 0, time.UTC)

func (s *Shelf) download(w http.ResponseWriter, r *http.Request, name string) {
	var b []byte
	var err error
	if v, ok := strings.CutPrefix(name, "wordpress-"); ok && s.Cores[v] != "" {
		b, err = s.coreZip(v)
	} else if slug, version, ok := strings.Cut(name, "."); ok && s.one(slug, version) != nil {
		b, err = Zip(*s.one(slug, version))
	} else {
		http.NotFound(w, r)
		return
	}
	if err != nil {
		http.Error(w, "the archive can't be made", http.StatusInternalServerError)
		return
	}
	sum := sha256.Sum256(b)
	w.Header().Set("ETag", strconv.Quote(hex.EncodeToString(sum[:8])))
	http.ServeContent(w, r, name+".zip", made, bytes.NewReader(b))
}

// Zip is the archive of an item.
func Zip(i Item) ([]byte, error) {
	var b bytes.Buffer
	zw := zip.NewWriter(&b)
	for _, name := range slices.Sorted(keys(i.Files)) {
		f, err := zw.CreateHeader(&zip.FileHeader{Name: i.Slug + "/" + name, Method: zip.Deflate, Modified: made})
		if err != nil {
			return nil, err
		}
		if _, err := f.Write([]byte(i.Files[name])); err != nil {
			return nil, err
		}
	}
	err := zw.Close()
	return b.Bytes(), err
}

func keys(m map[string]string) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// coreZip packs a core as its makers hand it out: below one folder.
func (s *Shelf) coreZip(version string) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if b := s.cores[version]; b != nil {
		return b, nil
	}
	var b bytes.Buffer
	zw := zip.NewWriter(&b)
	dir := s.Cores[version]
	err := filepath.WalkDir(dir, func(name string, d os.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		rel, err := filepath.Rel(dir, name)
		if err != nil {
			return err
		}
		text, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		f, err := zw.CreateHeader(&zip.FileHeader{Name: "wordpress/" + filepath.ToSlash(rel), Method: zip.Store,
			Modified: made})
		if err != nil {
			return err
		}
		_, err = f.Write(text)
		return err
	})
	if err = cmp.Or(err, zw.Close()); err != nil {
		return nil, err
	}
	if s.cores == nil {
		s.cores = map[string][]byte{}
	}
	s.cores[version] = b.Bytes()
	return b.Bytes(), nil
}
