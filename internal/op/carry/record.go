package carry

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"alibi/internal/op"
)

// Record is what a run wrote, kept so that it can be undone.
type Record struct {
	To      Side     `json:"to"`
	Changes []Change `json:"changes"`
	Files   []File   `json:"files,omitempty"`
	Folders []string `json:"folders,omitempty"` // that are made for the files
	// Needs are the items that each item refers to, or does not work without.
	Needs  map[string][]string `json:"needs,omitempty"`
	Left   []Left              `json:"left,omitempty"`
	Doubts []string            `json:"doubts,omitempty"` // places that may mean a number that was changed on the copy
}

// file is where a run's record is kept.
func file(env *op.Env, run string) string { return filepath.Join(env.Home, "sync", run+".json") }

// Kept reads the record of a run.
func Kept(env *op.Env, run string) (r Record, err error) {
	text, err := os.ReadFile(file(env, run))
	if errors.Is(err, fs.ErrNotExist) {
		return r, fmt.Errorf("run %s carried nothing, or what it wrote is not known any more: %w", run, fs.ErrNotExist)
	}
	if err != nil {
		return r, err
	}
	err = json.Unmarshal(text, &r)
	filed(&r)
	return r, err
}

// keptFor is how long what runs wrote is kept, for them to be undone.
const keptFor = 90 * 24 * time.Hour

// forgetOld removes what is kept of runs that are too old to be undone.
func (x *runner) forgetOld() {
	dir := filepath.Dir(file(x.env, x.kept))
	list, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, f := range list {
		if fi, err := f.Info(); err == nil && x.env.Now().Sub(fi.ModTime()) > keptFor {
			_ = os.RemoveAll(filepath.Join(dir, f.Name())) // the next run tries again
		}
	}
}

// keepRecord keeps a run's record, on the disk before it is relied on.
func (x *runner) keepRecord(r Record) error {
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if err := putFile(file(x.env, x.kept), text); err != nil {
		return fmt.Errorf("keeping what is to be written: %w", err)
	}
	return nil
}

// putFile puts a file of ours in its place whole, on the disk before it is relied on, with the folder that it is in.
func putFile(name string, text []byte) error {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(name+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(name+".new", name)
}
