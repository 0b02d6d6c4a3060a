package ftp

import (
	"io/fs"
	"regexp"
	"strconv"
	"strings"
	"time"

	"alibi/internal/host"
)

// info is what is known of a file.
type info struct {
	name   string
	size   int64
	mode   fs.FileMode
	mtime  time.Time
	owner  *host.Owner
	target string // of a link
}

func (i *info) Name() string       { return i.name }
func (i *info) Size() int64        { return i.size }
func (i *info) Mode() fs.FileMode  { return i.mode }
func (i *info) ModTime() time.Time { return i.mtime }
func (i *info) IsDir() bool        { return i.mode.IsDir() }

// Sys gives the owner, as host.OwnerOf asks for it.
func (i *info) Sys() any {
	if i.owner == nil {
		return nil
	}
	return i.owner
}

// long is a line of LIST as ls -l writes it, in which nearly all servers answer.
var long = regexp.MustCompile(`^([-dlbcps])([-rwxsStT]{9})[+.@]?\s+\d+\s+(\S+)\s+(\S+)\s+(\d+)\s+` +
	`(\w{3})\s+(\d{1,2})\s+(\d{4}|\d{1,2}:\d\d) (?s)(.*)$`)

var kinds = map[byte]fs.FileMode{'-': 0, 'd': fs.ModeDir, 'l': fs.ModeSymlink, 'b': fs.ModeDevice,
	'c': fs.ModeDevice | fs.ModeCharDevice, 'p': fs.ModeNamedPipe, 's': fs.ModeSocket}

// listed reads the answer to LIST. A line in another form belongs to the name before it, which has a line break.
func listed(lines []string, now time.Time) (out []*info) {
	for _, line := range lines {
		if strings.HasPrefix(line, "total ") && len(out) == 0 {
			continue
		}
		m := long.FindStringSubmatch(line)
		if m == nil {
			if len(out) > 0 {
				out[len(out)-1].name += "\n" + line
			}
			continue
		}
		e := &info{name: m[9], mode: kinds[m[1][0]] | permissions(m[2]), mtime: about(m[6]+" "+m[7]+" "+m[8], now)}
		e.size, _ = strconv.ParseInt(m[5], 10, 64)
		user, uerr := strconv.Atoi(m[3])
		group, gerr := strconv.Atoi(m[4])
		if uerr == nil && gerr == nil {
			e.owner = &host.Owner{User: user, Group: group}
		}
		if e.mode&fs.ModeSymlink != 0 { // its size is that of its target's name
			if at := len(e.name) - int(e.size) - len(" -> "); at > 0 && e.name[at:at+4] == " -> " {
				e.name, e.target = e.name[:at], e.name[at+4:]
			} else {
				e.name, e.target, _ = strings.Cut(e.name, " -> ")
			}
		}
		if e.name != "." && e.name != ".." && !strings.ContainsAny(e.name, "/\x00") && e.name != "" {
			out = append(out, e)
		}
	}
	return out
}

// permissions reads rwxr-x--x.
func permissions(s string) (m fs.FileMode) {
	for i, c := range s {
		if c != '-' && c != 'S' && c != 'T' {
			m |= 1 << (8 - i)
		}
	}
	special := []fs.FileMode{fs.ModeSetuid, fs.ModeSetgid, fs.ModeSticky}
	for i, at := range []int{2, 5, 8} {
		if strings.ContainsRune("sStT", rune(s[at])) {
			m |= special[i]
		}
	}
	return m
}

// about reads a time of LIST, which has either a year or a time of the last months, to the minute.
func about(s string, now time.Time) time.Time {
	s = strings.Join(strings.Fields(s), " ")
	if t, err := time.Parse("Jan 2 2006", s); err == nil {
		return t
	}
	t, err := time.Parse("Jan 2 15:04 2006", s+" "+strconv.Itoa(now.UTC().Year()))
	if err == nil && t.After(now.Add(24*time.Hour)) {
		t = t.AddDate(-1, 0, 0)
	}
	return t
}

// facts reads a line of MLSD (RFC 3659, 7): facts, a blank, the name. It tells times to the second, and servers on Unix
// modes and owners by number; of a link many say what it leads to instead.
func facts(line string) (e info, ok bool) {
	list, name, ok := strings.Cut(line, " ")
	if !ok {
		return e, false
	}
	e.name = name
	user, group := -1, -1
	for _, f := range strings.Split(strings.TrimSuffix(list, ";"), ";") {
		k, v, has := strings.Cut(f, "=")
		if !has {
			return e, false
		}
		switch strings.ToLower(k) {
		case "modify":
			e.mtime = exact(v)
		case "unix.mode":
			if n, err := strconv.ParseUint(v, 8, 32); err == nil {
				e.mode = unixMode(uint32(n))
			}
		case "unix.owner", "unix.uid":
			user = number(v)
		case "unix.group", "unix.gid":
			group = number(v)
		}
	}
	if user >= 0 && group >= 0 {
		e.owner = &host.Owner{User: user, Group: group}
	}
	return e, true
}

func number(s string) int {
	n, err := strconv.Atoi(s)
	if err != nil {
		return -1
	}
	return n
}

// exact reads a time of MLSD and MDTM, of which fractions are left out; zero if it is none.
func exact(s string) time.Time {
	s, _, _ = strings.Cut(strings.TrimSpace(s), ".")
	t, err := time.Parse("20060102150405", s)
	if err != nil {
		return time.Time{}
	}
	return t
}

// unixMode gives permissions that are written in octal.
func unixMode(n uint32) fs.FileMode {
	m := fs.FileMode(n & 0o777)
	for i, special := range []fs.FileMode{fs.ModeSticky, fs.ModeSetgid, fs.ModeSetuid} {
		if n&(0o1000<<i) != 0 {
			m |= special
		}
	}
	return m
}

// octal is the other way round.
func octal(m fs.FileMode) string {
	n := uint64(m.Perm())
	for i, special := range []fs.FileMode{fs.ModeSticky, fs.ModeSetgid, fs.ModeSetuid} {
		if m&special != 0 {
			n |= 0o1000 << i
		}
	}
	return strconv.FormatUint(n, 8)
}
