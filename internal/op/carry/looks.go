package carry

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"alibi/internal/drift"
	"alibi/internal/op"
)

// Look is how many things were found that a copy and its origin don't have in common.
type Look struct {
	At     time.Time `json:"at"`
	Parted time.Time `json:"parted"` // when both were the same last
	Live   int       `json:"live"`   // changed on the live site alone
	Copy   int       `json:"copy"`
	Both   int       `json:"both"`
}

// looksFile has those of a copy, one in a line.
func looksFile(env *op.Env, name string) string {
	return filepath.Join(env.CopyDir(name), "looks.jsonl")
}

// Note keeps how much was found, for it to be told over time, where that is not what was found last.
func (s *Sides) Note(ctx context.Context, d Drifted) error {
	meta, err := s.Base.Meta(ctx)
	if err != nil || s.beside {
		return err
	}
	l := Look{At: s.env.Now().UTC().Truncate(time.Second), Parted: meta.At.UTC().Truncate(time.Second)}
	for _, it := range d.Items {
		switch {
		case it.Noise || it.Marks:
		case it.Clashes():
			l.Both++
		case it.Copy != drift.Same:
			l.Copy++
		default:
			l.Live++
		}
	}
	before, err := Looks(s.env, s.CopySite.Name)
	if err != nil {
		return err
	}
	if n := len(before); n > 0 {
		last := before[n-1]
		if last.At = l.At; last == l {
			return nil
		}
	}
	text, err := json.Marshal(l)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(looksFile(s.env, s.CopySite.Name), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(append(text, '\n'))
	return errors.Join(err, f.Close())
}

// Looks gives what was found of a copy of a name, the first look first. A line that was not written whole is none.
func Looks(env *op.Env, name string) (out []Look, err error) {
	text, err := os.ReadFile(looksFile(env, name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading what was found of %s: %w", name, err)
	}
	for lines := bufio.NewScanner(bytes.NewReader(text)); lines.Scan(); {
		var l Look
		if json.Unmarshal(lines.Bytes(), &l) == nil {
			out = append(out, l)
		}
	}
	return out, nil
}
