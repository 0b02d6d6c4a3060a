// Package outbox reads what a copy wanted to send to the outside and its quiet
// rules caught: mails, and calls to other machines.
package outbox

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"net/mail"
	"path"
	"slices"
	"strings"
	"time"

	"alibi/internal/host"
)

// Most is how many things are read at most, the newest.
const Most = 500

// largest is how much of one is read, in bytes.
const largest = 256 << 10

// Item is one thing that was caught.
type Item struct {
	At      time.Time `json:"at"`
	Kind    string    `json:"kind"` // "mail", "call"; "refused" by the copy's wall; "reached": let through; "bound": met
	To      string    `json:"to"`   // addresses, or a method and a URL
	Subject string    `json:"subject,omitempty"`
	Text    string    `json:"text,omitempty"`
	File    string    `json:"file"`             // its name in the folder
	Times   int       `json:"times,omitempty"`  // of a target that was tried more than once
	Out     int64     `json:"out,omitempty"`    // bytes that went to what was reached
	In      int64     `json:"in,omitempty"`     // bytes that came from it
	Target  string    `json:"target,omitempty"` // HOST:PORT that could be let through
	// By are the files and lines that asked for it, below the site's folder of plugins and themes, where PHP told.
	By []string `json:"by,omitempty"`
}

// List reads a folder of caught things, the newest first. One that can't be
// read stands in the list with what is wrong with it.
func List(ctx context.Context, r host.Tree) ([]Item, error) {
	entries, err := r.ReadDir(".")
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading what was caught: %w", err)
	}
	counted := map[string]bool{}
	for _, e := range entries {
		counted[e.Name()] = true
	}
	var out []Item
	for _, e := range entries {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		kind, _, _ := strings.Cut(e.Name(), "-")
		if reader[kind] == nil || !e.Mode().IsRegular() ||
			kind == "asked" && counted["refused"+strings.TrimPrefix(e.Name(), "asked")] {
			continue
		}
		out = append(out, Item{At: e.ModTime().UTC(), Kind: called[kind], File: e.Name()})
	}
	slices.SortFunc(out, func(a, b Item) int { return cmp.Or(b.At.Compare(a.At), strings.Compare(b.File, a.File)) })
	out = out[:min(len(out), Most)]
	for i := range out {
		it := &out[i]
		kind, _, _ := strings.Cut(it.File, "-")
		text, err := host.ReadFile(r, it.File, largest)
		if err == nil {
			err = reader[kind](it, text)
		}
		if kind == "refused" {
			it.By = askers(r, it.File)
		}
		if err != nil {
			it.Subject = "can't be read: " + err.Error()
		}
	}
	return out, nil
}

// reader are by the beginning of a file's name.
var reader = map[string]func(*Item, []byte) error{"mail": readMail, "outward": readCall, "sendmail": readMessage,
	"refused": readNote, "reached": readNote, bound: readNote, "asked": readAsked}

// called is what a thing is called, by the beginning of its file's name.
var called = map[string]string{"mail": "mail", "sendmail": "mail", "outward": "call", "refused": "refused",
	"reached": "reached", bound: bound, "asked": "refused"}

// asked is what the CMS was asked to send.
type asked struct {
	At      time.Time `json:"at"`
	To      list      `json:"to"`
	Subject string    `json:"subject"`
	Message string    `json:"message"`
	Headers list      `json:"headers"`
	Files   list      `json:"attachments"`
	By      list      `json:"by"`
}

// readMail reads what the CMS was asked to send.
func readMail(it *Item, text []byte) error {
	var m asked
	if err := json.Unmarshal(text, &m); err != nil {
		return err
	}
	it.At, it.To, it.Subject, it.Text, it.By = m.At, strings.Join(m.To, ", "), m.Subject, m.Message, m.By
	if len(m.Headers) > 0 {
		it.Text = strings.Join(m.Headers, "\n") + "\n\n" + it.Text
	}
	for _, f := range m.Files {
		it.Text += "\n[attached: " + path.Base(f) + "]"
	}
	return nil
}

func readCall(it *Item, text []byte) error {
	var c struct {
		At          time.Time `json:"at"`
		Method, URL string
		By          list
	}
	if err := json.Unmarshal(text, &c); err != nil {
		return err
	}
	it.At, it.To, it.By = c.At, c.Method+" "+c.URL, c.By
	return nil
}

// readMessage reads what PHP handed to the system's sendmail (RFC 5322).
func readMessage(it *Item, text []byte) error {
	m, err := mail.ReadMessage(bytes.NewReader(text))
	if err != nil {
		return err
	}
	var words mime.WordDecoder
	plain := func(h string) string {
		s, err := words.DecodeHeader(m.Header.Get(h))
		if err != nil {
			return m.Header.Get(h)
		}
		return s
	}
	it.To, it.Subject = plain("To"), plain("Subject")
	body, err := io.ReadAll(m.Body)
	it.Text = string(body)
	return err
}

// list is one text or several: the CMS takes both.
type list []string

// UnmarshalJSON reads either.
func (l *list) UnmarshalJSON(b []byte) error {
	var one string
	if json.Unmarshal(b, &one) == nil {
		*l = nil
		for _, s := range strings.Split(one, "\n") {
			if s = strings.TrimSpace(s); s != "" {
				*l = append(*l, s)
			}
		}
		return nil
	}
	var byName map[string]string
	if json.Unmarshal(b, &byName) == nil {
		for k, v := range byName {
			*l = append(*l, k+": "+v)
		}
		slices.Sort(*l)
		return nil
	}
	return json.Unmarshal(b, (*[]string)(l))
}
