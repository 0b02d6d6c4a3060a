package ssh

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"io/fs"
	"strconv"
	"strings"

	"github.com/pkg/sftp"

	"alibi/internal/host"
)

// owned is a file's facts with its owner as the protocol tells it.
type owned struct{ fs.FileInfo }

func (o owned) Sys() any {
	if st, ok := o.FileInfo.Sys().(*sftp.FileStat); ok {
		return &host.Owner{User: int(st.UID), Group: int(st.GID)}
	}
	return nil
}

// Chown gives a file to another account. The protocol would follow a link: one
// is given away by the host's own chown, where it runs commands.
func (r *root) Chown(name string, o host.Owner) error {
	p, err := r.at(name)
	if err != nil {
		return err
	}
	fi, err := r.c.Lstat(p)
	if err != nil {
		return err
	}
	if fi.Mode()&fs.ModeSymlink == 0 {
		return r.c.Chown(p, o.User, o.Group)
	}
	if _, err := r.h.Command(context.Background(), "chown", "-h", fmt.Sprintf("%d:%d", o.User, o.Group),
		p); err != nil {
		return &fs.PathError{Op: "chown", Path: name, Err: fs.ErrPermission}
	}
	return nil
}

// attrsWanted are the extended attributes that belong to a site, for getfattr(1).
const attrsWanted = `^(user\.|system\.posix_acl_)`

// AllAttrs asks the host's getfattr; where there is none no attributes are known.
func (r *root) AllAttrs(ctx context.Context) (map[string]host.Attrs, error) {
	all, err := r.getfattr(ctx, r.path, "-R", "-P")
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return nil, err
	}
	return all, nil
}

// getfattr has the host dump the attributes of what is at p. An error is a
// connection that was lost; a host without the command knows of none.
func (r *root) getfattr(ctx context.Context, p string, how ...string) (map[string]host.Attrs, error) {
	args := append(how, "-h", "-d", "-m", attrsWanted, "-e", "hex", "--absolute-names", "--", p)
	out, err := r.h.Command(ctx, "getfattr", args...)
	if err != nil && Lost(err) {
		return nil, err
	}
	return dumped(out, r.path), nil
}

// dumped reads what getfattr(1) writes of the files below dir.
func dumped(text []byte, dir string) map[string]host.Attrs {
	all := map[string]host.Attrs{}
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, 1<<20)
	name := ""
	for lines.Scan() {
		if n, ok := strings.CutPrefix(lines.Text(), "# file: "); ok {
			name = strings.TrimPrefix(unescape(n), strings.TrimRight(dir, "/")+"/")
			continue
		}
		k, v, ok := strings.Cut(lines.Text(), "=0x")
		value, err := hex.DecodeString(v)
		if !ok || err != nil {
			continue
		}
		if all[name] == nil {
			all[name] = host.Attrs{}
		}
		all[name][unescape(k)] = value
	}
	return all
}

// unescape reads the octal escapes of a name that getfattr(1) writes.
func unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+3 < len(s) {
			if c, err := strconv.ParseUint(s[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(c))
				i += 3
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// Attrs gives the extended attributes of one file.
func (r *root) Attrs(name string) (host.Attrs, error) {
	p, err := r.noLink(name)
	if err != nil {
		return nil, err
	}
	all, err := r.getfattr(context.Background(), p)
	if err != nil {
		return nil, err
	}
	for _, a := range all {
		return a, nil
	}
	return nil, nil
}

// SetAttrs has the host's setfattr set them, and remove others.
func (r *root) SetAttrs(name string, a host.Attrs) error {
	p, err := r.noLink(name)
	if err != nil {
		return err
	}
	ctx := context.Background()
	have, err := r.Attrs(name)
	if err != nil || have.Equal(a) {
		return err
	}
	for k := range have {
		if _, stays := a[k]; !stays {
			if _, err := r.h.Command(ctx, "setfattr", "-h", "-x", k, "--", p); err != nil {
				return err
			}
		}
	}
	for k, v := range a {
		if _, err := r.h.Command(ctx, "setfattr", "-h", "-n", k, "-v", "0x"+hex.EncodeToString(v), "--",
			p); err != nil {
			return err
		}
	}
	return nil
}
