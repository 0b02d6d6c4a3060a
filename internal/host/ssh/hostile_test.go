package ssh

import (
	"io"
	"io/fs"
	"net"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// liar is a server whose folders hold what no folder can.
type liar struct{ names []string }

type lie struct {
	name string
	dir  bool
}

func (l lie) Name() string { return l.name }
func (lie) Size() int64    { return 1 << 50 }
func (l lie) Mode() fs.FileMode {
	if l.dir {
		return fs.ModeDir | 0o755
	}
	return 0o644
}
func (lie) ModTime() time.Time { return time.Unix(1<<31, 0) }
func (l lie) IsDir() bool      { return l.dir }
func (lie) Sys() any           { return nil }

func (l liar) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method != "List" {
		return lies{{name: "root", dir: true}}, nil
	}
	var out lies
	for _, n := range l.names {
		out = append(out, lie{name: n, dir: n != "index.php"})
	}
	return out, nil
}

type lies []lie

func (l lies) ListAt(to []fs.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	n := 0
	for ; n < len(to) && int(at)+n < len(l); n++ {
		to[n] = l[int(at)+n]
	}
	return n, nil
}

func TestAFolderOfAHostileServerHoldsOnlyNames(t *testing.T) {
	ours, theirs := net.Pipe()
	l := liar{
		names: []string{"", ".", "..", "../up", "/etc", "a/b", "nul\x00x", "index.php", "index.php", "wp-content"},
	}
	s := sftp.NewRequestServer(theirs, sftp.Handlers{FileList: l})
	go func() { _ = s.Serve() }()
	t.Cleanup(func() { s.Close() })
	c, err := sftp.NewClientPipe(ours, ours)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	r := &root{c: c, path: "/srv/site", dirs: map[string]time.Time{}}
	list, err := r.ReadDir(".")
	require.NoError(t, err)
	var names []string
	for _, fi := range list {
		names = append(names, fi.Name())
	}
	assert.Equal(t, []string{"b", "etc", "index.php", "up", "wp-content"}, names,
		"each once, and none that leads elsewhere")
}
