package desk

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"alibi/internal/host"
	"alibi/internal/op"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// LogLine is an entry of a log.
type LogLine struct {
	// of errors: "fatal", "parse", "warning", "notice", "deprecated"; of requests: the status, "2xx"
	// to "5xx"
	Kind string `json:"kind"`
	Text string `json:"text"`
}

// Log is what was read of a log.
type Log struct {
	Site  string         `json:"site"`
	Which string         `json:"log"`
	Where string         `json:"where"` // its path
	Lines []LogLine      `json:"lines"`
	Kinds map[string]int `json:"kinds"` // how many of each, among those that were read
	End   int64          `json:"end"`   // where to go on reading, in bytes
}

// Logs are the logs that can be read.
var Logs = []string{"errors", "access"}

// logRoom is how much of a log is read at once, in bytes, from its end.
const logRoom = 2 << 20

// ownLog is the log of errors that a live site's CMS keeps: its folder and its name.
func (d *core) ownLog(s site.Site) (dir, name string, err error) {
	st, err := d.env.Stack(s.Stack)
	if err != nil {
		return "", "", err
	}
	log := stack.LayoutOf(st).Log
	if log == "" {
		return "", "", fmt.Errorf("%s keeps no log of errors that Alibi knows of", s.Name)
	}
	dir, name = path.Split(path.Join(s.Root, log))
	return path.Clean(dir), name, nil
}

// ReadLog reads a site's log from a place on, in bytes; below 0 it is what is at
// its end. match keeps the lines with a text, kind those of one kind. Of a live
// site the log of errors is the one that its CMS keeps.
func (d *Hands) ReadLog(ctx context.Context, id site.ID, which, match, kind string, from int64) (Log, error) {
	s, err := d.record.Site(ctx, id)
	if err != nil {
		return Log{}, err
	}
	out := Log{Site: s.Name, Which: which, Kinds: map[string]int{}, Lines: []LogLine{}}
	dir, name := op.Logs(s), map[string]string{"errors": op.ErrorLog, "access": op.AccessLog}[which]
	switch {
	case name == "":
		return out, fmt.Errorf("there is no log %q: %s", which, strings.Join(Logs, ", "))
	case s.Role == site.Live && which == "access":
		return out, fmt.Errorf("the log of requests for %s is its web server's: Alibi does not know where it is",
			s.Name)
	case s.Role == site.Live:
		if dir, name, err = d.ownLog(s); err != nil {
			return out, err
		}
	}
	out.Where = path.Join(dir, name)
	text, end, err := d.tail(ctx, s, dir, name, from)
	if err != nil {
		return out, err
	}
	out.End = end
	for _, l := range entries(which, string(text), s.Root) {
		if match != "" && !strings.Contains(strings.ToLower(l.Text), strings.ToLower(match)) {
			continue
		}
		out.Kinds[l.Kind]++
		if kind == "" || l.Kind == kind {
			out.Lines = append(out.Lines, l)
		}
	}
	return out, nil
}

// tail reads whole lines from a place of a file on.
func (d *core) tail(ctx context.Context, s site.Site, dir, name string, from int64) ([]byte, int64, error) {
	h, err := d.host(ctx, s.Host)
	if err != nil {
		return nil, 0, err
	}
	f, err := open(ctx, h, dir, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, 0, nil // nothing was written yet
	}
	if err != nil {
		return nil, 0, fmt.Errorf("reading %s: %w", path.Join(dir, name), err)
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil {
		return nil, 0, err
	}
	size := fi.Size()
	if from > size {
		from = 0 // it was begun anew
	}
	cut := from < 0 && size > logRoom
	from = max(from, size-logRoom, 0)
	text, err := io.ReadAll(io.NewSectionReader(f, from, logRoom))
	if err != nil {
		return nil, 0, err
	}
	if cut {
		_, text, _ = bytes.Cut(text, []byte("\n"))
	}
	whole := bytes.LastIndexByte(text, '\n') + 1 // the last line may be half written
	return text[:whole], min(size, from+int64(len(text))) - int64(len(text)-whole), nil
}

// file is a file that lets go of its folder too.
type file struct {
	host.File
	root host.Tree
}

func (f file) Close() error { return errors.Join(f.File.Close(), f.root.Close()) }

func open(ctx context.Context, h host.Host, dir, name string) (host.File, error) {
	r, err := h.Open(ctx, dir)
	if err != nil {
		return nil, err
	}
	f, err := r.Open(name)
	if err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return file{f, r}, nil
}

var (
	errorLine  = regexp.MustCompile(`^(\[[^\]]+\] )?PHP ([A-Z][a-z]+)(?: [a-z]+)*:\s+(.*)`)
	statusLine = regexp.MustCompile(`" (\d)\d\d `)
)

// entries cuts a log into entries; lines that go on an entry belong to it.
func entries(which, text, root string) (out []LogLine) {
	for line := range strings.SplitSeq(strings.TrimRight(text, "\n"), "\n") {
		if line == "" {
			continue
		}
		line = strings.ReplaceAll(line, root+"/", "")
		if which == "access" {
			kind := "other"
			if m := statusLine.FindStringSubmatch(line); m != nil {
				kind = m[1] + "xx"
			}
			out = append(out, LogLine{kind, line})
			continue
		}
		m := errorLine.FindStringSubmatch(line)
		if m == nil {
			if n := len(out); n > 0 && !strings.HasPrefix(line, "[") {
				out[n-1].Text += "\n" + line
				continue
			}
			out = append(out, LogLine{"other", line})
			continue
		}
		kind := strings.ToLower(m[2])
		if kind == "recoverable" {
			kind = "fatal"
		}
		out = append(out, LogLine{kind, m[1] + m[3]})
	}
	return out
}

// KindsOf orders the kinds of a log by how often they are there.
func (l Log) KindsOf() (out []string) {
	for k := range l.Kinds {
		out = append(out, k)
	}
	slices.SortFunc(out, func(a, b string) int {
		return cmp.Or(cmp.Compare(l.Kinds[b], l.Kinds[a]), cmp.Compare(a, b))
	})
	return out
}
