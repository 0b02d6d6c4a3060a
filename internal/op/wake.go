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

	"alibi/internal/site"
)

// Headers by which a copy's code is spoken to, each with a Word but the last;
// from outside none comes through.
const (
	EnterHeader = "Alibi-Enter" // signs in
	WakeHeader  = "Alibi-Wake"  // an Ask
	PortHeader  = "Alibi-Port"  // at which visitors reach the copy
)

// Ask is what a copy's own code is to do after its components changed.
type Ask struct {
	On     []string `json:"on"`     // plugins that were put on, by their main files
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
	return w, fmt.Errorf("it answers %d, and not what it should: another Alibi made it; bring it in line with its origin first", status)
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
	h, err := e.Hosts(ctx, s.Host)
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
	h, err := e.Hosts(ctx, s.Host)
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
