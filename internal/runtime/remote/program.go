package remote

import (
	"compress/gzip"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"strings"
	"sync"

	"github.com/zeebo/blake3"

	"alibi/internal/host"
)

// Errand is the only argument with which our program, on another host, runs a copy there as it does here.
const Errand = "run-a-copy-here"

// machines are how uname(1) calls what programs are built for.
var machines = map[string]string{"linux/amd64": "Linux x86_64", "linux/arm64": "Linux aarch64"}

// place makes programs known by what is in them, in the folder for what can be made again (XDG Base Directory).
const place = `dir="${XDG_CACHE_HOME:-$HOME/.cache}/alibi"; f="$dir/program-$1"; `

// self gives the digest and the path of our own program.
var self = sync.OnceValues(func() (digest [2]string, err error) {
	name, err := os.Executable()
	if err != nil {
		return digest, err
	}
	f, err := os.Open(name)
	if err != nil {
		return digest, err
	}
	defer f.Close()
	h := blake3.New()
	if _, err := io.Copy(h, f); err != nil {
		return digest, err
	}
	return [2]string{hex.EncodeToString(h.Sum(nil)[:12]), name}, nil
})

// Program puts our own program onto a host, unless it is there, and gives its path there. why says why it can't run
// there, or could not be put.
func Program(ctx context.Context, h host.Host) (path, why string, err error) {
	is, err := h.Command(ctx, "uname", "-s", "-m")
	if errors.Is(err, host.ErrNoCommands) {
		return "", err.Error(), nil
	}
	if err != nil {
		return "", "", fmt.Errorf("asking %s what machine it is: %w", h.Name(), err)
	}
	if want := machines[runtime.GOOS+"/"+runtime.GOARCH]; want == "" || strings.TrimSpace(string(is)) != want {
		return "", fmt.Sprintf("this Alibi does not run on %s (%s)", h.Name(), strings.TrimSpace(string(is))), nil
	}
	me, err := self()
	if err != nil {
		return "", "", fmt.Errorf("reading our own program: %w", err)
	}
	try := func() (string, error) {
		out, err := h.Command(ctx, "sh", "-c", place+`[ -x "$f" ] && touch "$f" && "$f" "$2" try`, "sh", me[0], Errand)
		return strings.TrimSpace(string(out)), err
	}
	if path, err = try(); err == nil || !ended(err) {
		return path, "", err
	}
	if err := put(ctx, h, me[0], me[1]); ended(err) {
		return "", "our program could not be put there: " + err.Error(), nil
	} else if err != nil {
		return "", "", err
	}
	if path, err = try(); ended(err) {
		return "", "our program does not run there: " + err.Error(), nil
	}
	return path, "", err
}

// ended tells whether a program ran and ended with an error, rather than that the host could not be asked.
func ended(err error) bool {
	var here interface{ ExitCode() int }
	var there interface{ ExitStatus() int }
	return errors.As(err, &here) || errors.As(err, &there)
}

// take takes a program in beside its place, and removes those that nobody used for a week.
const take = place + `umask 077; mkdir -p "$dir" && cd "$dir" || exit 1
new=.program-$1-$$; trap 'rm -f "$new"' EXIT
$2 >"$new" && chmod 700 "$new" && mv "$new" "$f" && find . -name 'program-*' -mtime +7 -exec rm -f {} +`

// put brings our program, compressed where that pays.
func put(ctx context.Context, h host.Host, digest, name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if !host.Compresses(ctx, h) {
		return h.Pipe(ctx, f, io.Discard, "sh", "-c", take, "sh", digest, "cat")
	}
	in, out := io.Pipe()
	defer in.Close()
	go func() {
		z := gzip.NewWriter(out)
		_, err := io.Copy(z, f)
		if cerr := z.Close(); err == nil {
			err = cerr
		}
		out.CloseWithError(err)
	}()
	return h.Pipe(ctx, in, io.Discard, "sh", "-c", take, "sh", digest, "gzip -dc")
}

// Forget removes our programs from a host, where no copy runs any more.
func Forget(ctx context.Context, h host.Host) error {
	_, err := h.Command(ctx, "sh", "-c", place+`rm -f "$dir"/program-*; rmdir "$dir" 2>/dev/null; true`, "sh", "")
	return err
}
