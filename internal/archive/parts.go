package archive

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"
)

// Sums ends the name of the list of parts, beside them, as sha256sum writes and
// checks it.
const Sums = ".sha256"

// PartName is what the n-th part of an archive is called, from 1 on.
func PartName(base string, n int) string { return fmt.Sprintf("%s.%03d", base, n) }

// Out is a new archive on this machine: in one file, or in parts. It has its
// name once it is whole.
type Out struct {
	base  string
	part  int64 // bytes of each; 0: one file
	f     *os.File
	sum   hash.Hash
	n     int
	size  int64 // of the present part
	Total int64
	made  []string
	sums  bytes.Buffer
}

const unfinished = ".unfinished"

// Create begins an archive; nothing is ever written over.
func Create(base string, part int64) (*Out, error) {
	for _, n := range []string{base, PartName(base, 1), base + Sums} {
		if _, err := os.Lstat(n); err == nil {
			return nil, fmt.Errorf("%s is there already: name a new one, nothing is written over", n)
		}
	}
	if part != 0 && part < 64<<10 {
		return nil, fmt.Errorf("parts of %d bytes are too small: at least 64 KiB", part)
	}
	o := &Out{base: base, part: part}
	return o, o.begin()
}

func (o *Out) begin() (err error) {
	o.n++
	o.size, o.sum = 0, sha256.New()
	name := o.base
	if o.part > 0 {
		name = PartName(o.base, o.n)
	}
	if o.f, err = os.OpenFile(name+unfinished, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600); err != nil {
		return fmt.Errorf("writing the archive: %w", err)
	}
	o.made = append(o.made, name)
	return nil
}

func (o *Out) Write(b []byte) (int, error) {
	written := 0
	for len(b) > 0 {
		if o.part > 0 && o.size == o.part {
			if err := o.finish(); err != nil {
				return written, err
			}
			if err := o.begin(); err != nil {
				return written, err
			}
		}
		n := len(b)
		if o.part > 0 {
			n = int(min(int64(n), o.part-o.size))
		}
		n, err := o.f.Write(b[:n])
		o.sum.Write(b[:n])
		o.size, o.Total, written = o.size+int64(n), o.Total+int64(n), written+n
		if err != nil {
			return written, fmt.Errorf("writing the archive: %w", err)
		}
		b = b[n:]
	}
	return written, nil
}

// finish makes the present part last.
func (o *Out) finish() error {
	err := o.f.Sync()
	if cerr := o.f.Close(); err == nil {
		err = cerr
	}
	fmt.Fprintf(&o.sums, "%x  %s\n", o.sum.Sum(nil), filepath.Base(o.made[len(o.made)-1]))
	return err
}

// Close gives the archive its name, or all its parts, and tells which.
func (o *Out) Close() ([]string, error) {
	err := o.finish()
	for _, n := range o.made {
		if err == nil {
			err = os.Rename(n+unfinished, n)
		}
	}
	if err == nil && o.part > 0 {
		err = os.WriteFile(o.base+Sums, o.sums.Bytes(), 0o600)
	}
	if err != nil {
		o.Discard()
		return nil, fmt.Errorf("writing the archive: %w", err)
	}
	return o.made, nil
}

// Discard removes what was written.
func (o *Out) Discard() {
	_ = o.f.Close()
	for _, n := range o.made {
		_ = os.Remove(n + unfinished)
	}
}

// ClearUnfinished removes what a process left that died while it wrote.
func ClearUnfinished(base string) error {
	list, err := filepath.Glob(strings.NewReplacer(`[`, `\[`, `*`, `\*`, `?`, `\?`, `\`, `\\`).Replace(base) + "*" +
		unfinished)
	for _, n := range list {
		err = errors.Join(err, os.Remove(n))
	}
	return err
}

// Parts finds the files that an archive consists of, by the name of any of them
// or the name that they share.
func Parts(name string) ([]string, error) {
	base := strings.TrimSuffix(name, Sums)
	if ext := filepath.Ext(base); len(ext) == 4 && strings.Trim(ext[1:], "0123456789") == "" {
		base = strings.TrimSuffix(base, ext)
	} else if _, err := os.Stat(base); err == nil {
		return []string{base}, nil
	}
	listed, err := listed(base)
	if err != nil {
		return nil, err
	}
	var out []string
	for n := 1; ; n++ {
		p := PartName(base, n)
		if _, err := os.Stat(p); errors.Is(err, fs.ErrNotExist) {
			break
		}
		out = append(out, p)
	}
	if len(listed) > len(out) {
		return nil, fmt.Errorf("%w: its part %s is missing; all %d are needed together", ErrDamaged, listed[len(out)],
			len(listed))
	}
	if later, _ := filepath.Glob(base + ".[0-9][0-9][0-9]"); len(later) > len(out) {
		return nil, fmt.Errorf("%w: its part %s is missing; all are needed together", ErrDamaged,
			filepath.Base(PartName(base, len(out)+1)))
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%w %s: %w", ErrMissing, name, fs.ErrNotExist)
	}
	return out, nil
}

// listed reads the names of the parts from the list beside them; without one
// nothing is known of them.
func listed(base string) (names []string, err error) {
	text, err := os.ReadFile(base + Sums)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		if _, n, ok := strings.Cut(line, "  "); ok {
			names = append(names, n)
		}
	}
	return names, err
}

// In is an archive that is being read.
type In struct {
	io.Reader
	files []*os.File
	Size  int64
}

// Open opens an archive, whatever it consists of. Keys open it where it is
// encrypted.
func Open(name string, keys []age.Identity) (*In, error) {
	list, err := Parts(name)
	if err != nil {
		return nil, err
	}
	in := &In{}
	var all []io.Reader
	for _, p := range list {
		f, err := os.Open(p)
		if err != nil {
			in.Close()
			return nil, err
		}
		fi, err := f.Stat()
		if err == nil && !fi.Mode().IsRegular() {
			err = fmt.Errorf("%s is no file", p)
		}
		if err != nil {
			in.Close()
			return nil, err
		}
		in.files, in.Size = append(in.files, f), in.Size+fi.Size()
		all = append(all, f)
	}
	r := bufio.NewReaderSize(io.MultiReader(all...), 1<<20)
	in.Reader = r
	head, _ := r.Peek(len(ageHead))
	if string(head) != ageHead {
		return in, nil
	}
	if len(keys) == 0 {
		in.Close()
		return nil, fmt.Errorf("%w: name a file with the key", ErrLocked)
	}
	if in.Reader, err = age.Decrypt(r, keys...); err != nil {
		in.Close()
		var no *age.NoIdentityMatchError
		if errors.As(err, &no) {
			return nil, ErrLocked
		}
		return nil, fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return in, nil
}

const ageHead = "age-encryption.org/v1"

// Close closes its files.
func (in *In) Close() {
	for _, f := range in.files {
		f.Close()
	}
}

// CheckParts compares parts with the list beside them, and names the first that
// is not what it was. Without a list nothing is compared.
func CheckParts(name string) error {
	list, err := Parts(name)
	if err != nil || len(list) == 0 {
		return err
	}
	base := strings.TrimSuffix(list[0], filepath.Ext(list[0]))
	text, err := os.ReadFile(base + Sums)
	if err != nil {
		return nil
	}
	for i, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		want, n, _ := strings.Cut(line, "  ")
		if i >= len(list) || filepath.Base(list[i]) != n {
			return fmt.Errorf("%w: its part %s is missing", ErrDamaged, n)
		}
		f, err := os.Open(list[i])
		if err != nil {
			return err
		}
		h := sha256.New()
		_, err = io.Copy(h, f)
		f.Close()
		if err != nil {
			return err
		}
		if hex.EncodeToString(h.Sum(nil)) != want {
			return fmt.Errorf("%w: its part %s is not what it was", ErrDamaged, n)
		}
	}
	return nil
}
