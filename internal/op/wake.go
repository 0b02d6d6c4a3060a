package op

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"regexp"
	"strings"

	"alibi/internal/runtime/web"
	"alibi/internal/site"
)

// Headers by which a copy's code is spoken to, each with a Word but the last;
// from outside none comes through.
const (
	EnterHeader = "Alibi-Enter"  // signs in
	WakeHeader  = "Alibi-Wake"   // an Ask
	WhoHeader   = "Alibi-Who"    // asks what the code works with
	PortHeader  = web.PortHeader // at which visitors reach the copy
)

// Ask is what a copy's own code is to do after its components changed.
type Ask struct {
	On     []string `json:"on"`     // plugins that were activated, by their main files
	Update bool     `json:"update"` // bring the data in line with the core
}

// Woken is what came of it.
type Woken struct {
	PHP    string `json:"php"`
	Core   string `json:"core"`
	Before string `json:"before"` // version of the data
	After  string `json:"after"`
}

// ErrBroken is given for a copy whose own code breaks off.
var ErrBroken = errors.New("its code breaks off")

// Identity is what a copy's running code works with, as it says itself.
type Identity struct {
	Database   string   `json:"database"`
	Account    string   `json:"account"` // NAME@HOST
	File       string   `json:"file"`    // of SQLite
	Prefix     string   `json:"prefix"`
	UsedPrefix string   `json:"used_prefix"`
	Home       string   `json:"home"`      // its first address
	Constants  []string `json:"constants"` // name, account and server as its configuration has them
	Salts      string   `json:"salts"`     // digest of what signs sessions
}

// ErrForeign is given for a copy whose code works with something that is not the
// copy's own.
var ErrForeign = errors.New("the copy's code does not work with the copy's own database")

// Belongs tells whether what a copy's code works with is the copy's own.
func (i Identity) Belongs(s site.Site) error {
	db := s.Database
	wrong := func(what, is, should string) error {
		return fmt.Errorf(
			"%w: its %s is %q, and %q is the copy's; no page of it was asked for. Look into its configuration and "+
				"what stands in for its database (db.php), and bring it in line with its origin again",
			ErrForeign,
			what,
			is,
			should,
		)
	}
	account, _, _ := strings.Cut(i.Account, "@")
	switch {
	case db.InFile() && i.File != db.Path:
		return wrong("database file", i.File, db.Path)
	case db.Served() && i.Database != db.Name:
		return wrong("database", i.Database, db.Name)
	case db.Served() && !db.Beside() && account != db.User:
		return wrong("database account", account, db.User)
	case i.UsedPrefix != db.Prefix:
		return wrong("table prefix", i.UsedPrefix, db.Prefix)
	}
	for _, a := range s.Addresses {
		if strings.HasPrefix(strings.TrimSuffix(i.Home, "/")+"/", a.String()+"/") {
			return nil
		}
	}
	return wrong("address", i.Home, s.Address().String())
}

// ParseWho reads a copy's answer to who it is. known is false where it was made by
// an Alibi that did not ask.
func ParseWho(status int, page string) (i Identity, known bool, err error) {
	if k := strings.Index(page, "{\"alibi\":"); k >= 0 && status == http.StatusOK {
		var all struct{ Alibi Identity }
		if err := json.NewDecoder(strings.NewReader(page[k:])).Decode(&all); err == nil {
			return all.Alibi, true, nil
		}
	}
	if status >= http.StatusInternalServerError {
		return i, false, fmt.Errorf("%w: it answers %d", ErrBroken, status)
	}
	return i, false, nil
}

// ParseWoken reads the answer of a copy's code.
func ParseWoken(status int, page string) (w Woken, err error) {
	if i := strings.Index(page, "{\"alibi\":"); i >= 0 && status == http.StatusOK {
		page = page[i:] // plugins may write something before it
		var all struct{ Alibi Woken }
		if err := json.NewDecoder(strings.NewReader(page)).Decode(&all); err == nil {
			return all.Alibi, nil
		}
	}
	if status >= http.StatusInternalServerError {
		return w, fmt.Errorf("%w: it answers %d", ErrBroken, status)
	}
	return w, fmt.Errorf("it answers %d, and not what it should: another Alibi made it; bring it in line with its "+
		"origin first", status)
}

// The files in the folder of a copy to which its errors and the requests for it
// are written.
const (
	ErrorLog  = "errors.log"
	AccessLog = "access.log"
)

// Logs is the folder with a copy's logs.
func Logs(s site.Site) string { return path.Join(Folder(s), "logs") }

// Mark tells how long a copy's error log is now, for Complaints.
func (e *Env) Mark(ctx context.Context, s site.Site) int64 {
	h, err := e.Host(ctx, s.Host)
	if err != nil {
		return 0
	}
	r, err := h.Open(ctx, Logs(s))
	if err != nil {
		return 0 // nothing was written yet
	}
	defer r.Close()
	if fi, err := r.Lstat(ErrorLog); err == nil {
		return fi.Size()
	}
	return 0
}

// Complaints are the errors that a copy's code wrote since a mark, each once, the
// gravest first.
func (e *Env) Complaints(ctx context.Context, s site.Site, mark int64) ([]string, error) {
	h, err := e.Host(ctx, s.Host)
	if err != nil {
		return nil, err
	}
	r, err := h.Open(ctx, Logs(s))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer r.Close()
	f, err := r.Open(ErrorLog)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	text, err := io.ReadAll(io.NewSectionReader(f, mark, 1<<20))
	return Errors(string(text), s.Root), err
}

// grave are the kinds of errors that end a request.
var grave = regexp.MustCompile(`PHP (?:Fatal error|Parse error|Recoverable fatal error):\s+(.*)`)

// Errors takes the errors that ended requests out of a log, each once, with
// paths below the site's root.
func Errors(log, root string) (out []string) {
	seen := map[string]bool{}
	for line := range strings.SplitSeq(log, "\n") {
		m := grave.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		text := strings.ReplaceAll(strings.TrimPrefix(strings.TrimPrefix(m[1], "Uncaught "), "Error: "), root+"/", "")
		if !seen[text] {
			seen[text] = true
			out = append(out, text)
		}
	}
	return out
}
