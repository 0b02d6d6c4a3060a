package sqlite

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"alibi/internal/tables"
)

// near is a transaction on a file of this machine.
type near struct {
	ctx context.Context
	db  *sql.DB
	c   *sql.Conn
}

func openNear(ctx context.Context, at string) (session, error) {
	db, err := connect(at, "rw", "busy_timeout(5000)")
	if err != nil {
		return nil, err
	}
	c, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("opening the database %s: %w", at, err)
	}
	n := &near{ctx, db, c}
	if _, err := c.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
		n.close()
		return nil, fmt.Errorf("waiting for %s, to which others write: %w: %w", at, tables.ErrBusy, err)
	}
	return n, nil
}

func (n *near) run(statement string, give func([]string) error) error {
	if give == nil {
		_, err := n.c.ExecContext(n.ctx, statement)
		return err
	}
	rows, err := n.c.QueryContext(n.ctx, statement)
	if err != nil {
		return err
	}
	return tables.Results(rows, func(_ []string, v []tables.Value) error {
		row := make([]string, len(v))
		for i := range v {
			row[i] = v[i].String()
		}
		return give(row)
	})
}

func (n *near) close() {
	n.c.Close()
	n.db.Close()
}

// Piper is a machine that runs programs.
type Piper interface {
	Name() string
	Pipe(ctx context.Context, in io.Reader, out io.Writer, name string, args ...string) error
}

// Program is what PHP runs where a file is that is changed from afar: it begins a transaction, answers each line of
// JSON that is a statement with a line that has its rows, and ends without having changed anything unless one of them
// was COMMIT. A statement that fails is answered with an object that says why.
const Program = `ini_set("display_errors", "0"); try { $d = new PDO("sqlite:" . $argv[1]); $d->setAttribute(3, 2); ` +
	`$d->exec("PRAGMA busy_timeout = 5000"); $d->exec("BEGIN IMMEDIATE"); echo "[]\n"; ` +
	`while (($l = fgets(STDIN)) !== false) { try { $s = $d->query(json_decode($l)); ` +
	`echo json_encode($s->columnCount() ? $s->fetchAll(3) : []), "\n"; $s = null; } ` +
	`catch (Throwable $e) { echo json_encode(["error" => $e->getMessage()]), "\n"; } } } ` +
	`catch (Throwable $e) { echo json_encode(["error" => $e->getMessage()]), "\n"; }`

// away is a transaction on a file of another machine, by PHP there.
type away struct {
	stop    context.CancelFunc
	to      io.WriteCloser
	answers *bufio.Reader
	ended   chan error
	host    string
}

func (e *edit) openFar(ctx context.Context, at string) (session, error) {
	if e.far == nil {
		return nil, fmt.Errorf("%s is on another machine, which runs nothing for us", at)
	}
	ctx, stop := context.WithCancel(ctx)
	in, to := io.Pipe()
	from, out := io.Pipe()
	a := &away{stop, to, bufio.NewReader(from), make(chan error, 1), e.far.Name()}
	go func() {
		err := e.far.Pipe(ctx, in, out, "php", "-r", Program, "--", at)
		in.Close()
		if err == nil {
			err = io.EOF
		}
		out.CloseWithError(err)
		a.ended <- err
	}()
	if err := a.answer(nil); err != nil {
		a.close()
		return nil, fmt.Errorf("changing rows of a file on %s by PHP there, as its site does: %w; nothing was changed; php "+
			"with pdo_sqlite must run there", e.far.Name(), err)
	}
	return a, nil
}

func (a *away) run(statement string, give func([]string) error) error {
	line, err := json.Marshal(statement)
	if err != nil {
		return err
	}
	if _, err := a.to.Write(append(line, '\n')); err != nil {
		return fmt.Errorf("asking PHP on %s: %w", a.host, err)
	}
	return a.answer(give)
}

func (a *away) answer(give func([]string) error) error {
	line, err := a.answers.ReadBytes('\n')
	if err != nil {
		return fmt.Errorf("PHP on %s gave no answer: %w", a.host, err)
	}
	var refused struct{ Error string }
	if json.Unmarshal(line, &refused) == nil {
		return errors.New(refused.Error)
	}
	var rows [][]string
	if err := json.Unmarshal(line, &rows); err != nil {
		return fmt.Errorf("what PHP on %s answered can't be read: %w", a.host, err)
	}
	for _, r := range rows {
		if give != nil {
			if err := give(r); err != nil {
				return err
			}
		}
	}
	return nil
}

func (a *away) close() {
	a.to.Close()
	a.stop()
	<-a.ended
}
