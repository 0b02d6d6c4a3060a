package relay

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"alibi/internal/host/trust"
)

// Bring has a relay for the host's files brought to where it answers, by whoever can, and sees that it does: by bring,
// which is given a name, and the text of a PHP file of that name. It reaches no database. at is where that machine is;
// "": where the name of its address leads. pin is the digest of a key that is accepted of it, see package trust.
func Bring(
	ctx context.Context,
	at, pin, name string,
	bring func(ctx context.Context, name, text string) (*url.URL, error),
) (*Relay, error) {
	r := &Relay{key: newKey(), until: time.Now().Add(Life), writes: true}
	text := strings.Replace(script(r.key, Server{}, r.until), "// FILES\n", "if ($last !== 'FILE') {\n"+
		"    $out->fail(1290, 'this file reaches no database');\n}\nalibi_file($parts, $out);\n$out->end();\n", 1)
	u, err := bring(ctx, name, text+strings.TrimPrefix(forFiles, "<?php"))
	if err != nil {
		return nil, err
	}
	r.url, r.client = u.String(), trust.Client(u, at, pin)
	if err := r.Files(ctx, nil, "about", "/", "."); err != nil && !errors.As(err, new(*mysql.MySQLError)) {
		return r, fmt.Errorf("%s was brought there and does not answer: see whether the host runs PHP files in that folder; "+
			"it may be deleted: %w", name, err)
	}
	return r, nil
}

// Files asks for something of files: what to do, an absolute folder, a name below it, and more, as
// docs/formats/relay.md has it. Rows of the answer are given until give fails. An error of the host's is a
// *mysql.MySQLError with a number of errno(3).
func (r *Relay) Files(ctx context.Context, give func(row []string) error, parts ...string) error {
	a, err := r.ask(ctx, append(append([]string{""}, parts...), "FILE"))
	if err != nil {
		return err
	}
	defer a.body.Close()
	cells := make([]driver.Value, len(a.columns))
	row := make([]string, len(cells))
	for {
		if err := a.next(cells); err != nil {
			if err == io.EOF {
				return nil
			}
			return err
		}
		for i, c := range cells {
			b, _ := c.([]byte)
			row[i] = string(b)
		}
		if give != nil {
			if err := give(row); err != nil {
				return err
			}
		}
	}
}
