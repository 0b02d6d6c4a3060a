package op

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"alibi/internal/host"
	"alibi/internal/inventory"
	"alibi/internal/relay"
	"alibi/internal/runtime/names"
	"alibi/internal/runtime/remote"
	"alibi/internal/runtime/wall"
	"alibi/internal/site"
	"alibi/internal/tables"
	"alibi/internal/tables/engines"
	"alibi/internal/tree"
)

// Server is a database server on which copies get their databases.
type Server struct {
	tables.Server        // as an account that may make databases and accounts
	Address       string // as a copy's configuration names it
}

// ErrNoServer is given for a host on which copies can't get a database.
var ErrNoServer = errors.New("no database server is known on which copies may be made")

// from is where a copy's account may connect from: its own machine.
var from = []string{"localhost", "127.0.0.1"}

// Derive works out a secret of a copy from Alibi's own, anew whenever it is
// needed: it is stored nowhere but in the copy itself.
func Derive(secret []byte, purpose string, id site.ID) string {
	m := hmac.New(sha256.New, secret)
	fmt.Fprintf(m, "%s of %s", purpose, id)
	return hex.EncodeToString(m.Sum(nil)[:16])
}

// Password is that of a copy's database account.
func (e *Env) Password(id site.ID) string { return Derive(e.Secret, "database account", id) }

// Word is a text signed for a copy: its code can tell that it comes from Alibi.
// secret is the copy's, by Derive for "words".
func Word(secret, purpose, text string, until time.Time) string {
	payload := fmt.Sprintf("%x.%d", text, until.Unix())
	m := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(m, "%s.%s", purpose, payload)
	return payload + "." + hex.EncodeToString(m.Sum(nil))
}

// MakeDatabase makes the database and the account of a copy, noted before they
// are there.
func (e *Env) MakeDatabase(ctx context.Context, s site.Site, charset, collation string) error {
	return e.MakeDatabaseFor(ctx, s.ID, s, charset, collation)
}

// MadeDatabase is what is noted of a database and its account.
func MadeDatabase(whose site.ID, hostName string, db site.Database, at time.Time) (out []inventory.Made) {
	for kind, what := range map[string]string{"database": db.Name, "account": db.User} {
		out = append(out, inventory.Made{Site: whose, Kind: kind, Host: hostName, Path: madePath(kind, what), At: at})
	}
	return out
}

// MakeDatabaseFor makes the database and the account of a site, noted as whose they are.
func (e *Env) MakeDatabaseFor(ctx context.Context, whose site.ID, s site.Site, charset, collation string) error {
	srv, err := e.Server(ctx, s.Host)
	if err != nil {
		return err
	}
	for _, m := range MadeDatabase(whose, s.Host, s.Database, e.Now()) {
		if err := e.Record.AddMade(ctx, m); err != nil {
			return err
		}
	}
	account := tables.Account{Name: s.Database.User, Password: e.Password(s.ID), From: from}
	return srv.MakeDatabase(ctx, s.Database.Name, charset, collation, account)
}

// MovePrefix begins whose what is that was made for a move.
const MovePrefix = "move "

// madePath names a database or an account in the list of what was made.
func madePath(kind, name string) string { return kind + ":" + name }

// NamesPath names lines of a hosts file in the list of what was made.
func NamesPath(file, mark string) string { return madePath("names", file+"#"+mark) }

// Unmake removes something that was made, and notes that it is gone.
func (e *Env) Unmake(ctx context.Context, m inventory.Made) error {
	var err error
	_, name, _ := strings.Cut(m.Path, ":")
	switch m.Kind {
	case "database", "account":
		var srv *Server
		if srv, err = e.Server(ctx, m.Host); err != nil {
			break
		}
		if !strings.HasPrefix(name, DatabasePrefix) {
			err = fmt.Errorf("the %s %s was not made by Alibi", m.Kind, name)
		} else if m.Kind == "database" {
			err = srv.DropDatabase(ctx, name)
		} else {
			err = srv.DropAccount(ctx, name)
		}
	case "tables":
		err = e.dropBeside(ctx, m.Site, name)
	case "names":
		file, mark, _ := strings.Cut(name, "#")
		err = names.File{Path: file}.Remove(mark)
	case BroughtRelay:
		err = e.withdraw(ctx, m)
	case ReadingRelay, WritingRelay:
		err = e.unrelay(ctx, m)
	default:
		err = e.removeFolder(ctx, m.Host, m.Path)
	}
	if err != nil {
		return err
	}
	return e.Record.Unmade(ctx, m.Host, m.Path)
}

// removeFolder removes a folder that Alibi made on a host.
func (e *Env) removeFolder(ctx context.Context, hostName, dir string) error {
	h, err := e.Host(ctx, hostName)
	if err != nil {
		return err
	}
	up, err := h.Write(ctx, path.Dir(dir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer up.Close()
	for try := 0; ; try++ {
		err := up.RemoveAll(path.Base(dir))
		if err == nil {
			return nil
		}
		if try == removals || ctx.Err() != nil {
			return fmt.Errorf("removing %s on %s: %w", dir, hostName, err)
		}
		time.Sleep(100 * time.Millisecond) // its code may have written something at the last moment
	}
}

// removals is how often more a folder is removed into which something was written meanwhile.
const removals = 20

// offAir takes a copy off the air, of which nothing will be left: nobody is to see it without the half of it.
func (e *Env) offAir(ctx context.Context, id site.ID) error {
	_, err := e.Record.ChangeSite(ctx, id, func(s *site.Site) error {
		if s.State == site.Ready || s.State == site.Parked {
			s.State = site.Failed
		}
		return nil
	})
	if err == nil && e.Stop != nil {
		e.Stop(id)
	}
	if errors.Is(err, inventory.ErrUnknown) {
		return nil // it was never reserved
	}
	return err
}

// Erase removes all that was made for a copy, and its place in the record.
func (e *Env) Erase(ctx context.Context, id site.ID, name string) error {
	if err := e.offAir(ctx, id); err != nil {
		return err
	}
	made, err := e.Record.AllMade(ctx)
	if err != nil {
		return err
	}
	for _, m := range made {
		if m.Site == id {
			if err := e.Unmake(ctx, m); err != nil {
				return err
			}
		}
	}
	if err := e.removeFolder(ctx, e.Local, e.CopyDir(name)); err != nil {
		return err
	}
	s, err := e.Record.ChangeSite(ctx, id, func(s *site.Site) error {
		s.State, s.Run = site.Gone, ""
		if s.EndedAt.IsZero() {
			s.EndedAt = e.Now()
		}
		return nil
	})
	if errors.Is(err, inventory.ErrUnknown) {
		return nil // it was never reserved
	}
	if err != nil {
		return err
	}
	return e.forgetProgram(ctx, s.Host)
}

// PutProgram puts our own program on a host on which copies are to run, and gives why it can't run there.
func (e *Env) PutProgram(ctx context.Context, hostName string) (why string, err error) {
	h, err := e.Host(ctx, hostName)
	if err != nil {
		return "", err
	}
	_, why, err = remote.Program(ctx, h)
	return why, err
}

// Digest has the files of a copy on another host digested there by our own program, which its code can't reach, and
// tells whether it could be.
func (e *Env) Digest(ctx context.Context, s site.Site, dir string, files []tree.Entry, tell tree.Progress) (bool,
	error) {
	if s.Host == e.Local || !s.Database.Served() || len(files) == 0 {
		return false, nil
	}
	kept, err := e.Record.Host(ctx, s.Host)
	if err != nil || kept.Open != "" { // nothing keeps the copy's code from our program
		return false, err
	}
	h, err := e.Host(ctx, s.Host)
	if err != nil {
		return false, err
	}
	program, why, err := remote.Program(ctx, h)
	if err != nil || why != "" {
		return false, err
	}
	return true, remote.Digest(ctx, h, program, dir, files, tell)
}

// forgetProgram removes our own program from a host that has no copy any more.
func (e *Env) forgetProgram(ctx context.Context, hostName string) error {
	if hostName == e.Local {
		return nil
	}
	sites, err := e.Record.Sites(ctx)
	if err != nil || slices.ContainsFunc(sites, func(s site.Site) bool {
		return s.Role == site.Copy && s.Host == hostName && s.State != site.Gone
	}) {
		return err
	}
	h, err := e.Host(ctx, hostName)
	if err != nil {
		return err
	}
	if err := remote.Forget(ctx, h); err != nil && !errors.Is(err, host.ErrNoCommands) {
		return fmt.Errorf("removing our program from %s: %w", hostName, err)
	}
	return nil
}

// TrialPrefix begins the name under which a trial notes what it made; its run
// follows.
const TrialPrefix = "trial-"

// DatabasePrefix begins the names of the databases and accounts that Alibi makes.
const DatabasePrefix = "alibi_"

// DatabaseName is that of the database that Alibi makes for a site, and of the account that owns it: short enough for
// every server, and no other site's.
func DatabaseName(s site.Site) string {
	slug := strings.ReplaceAll(site.Slug(s.Name), "-", "_")
	return DatabasePrefix + slug[:min(len(slug), 18)] + "_" + string(s.ID[:4])
}

// Folder is the folder of a copy on its host, above its "now".
func Folder(s site.Site) string { return path.Dir(path.Dir(s.Root)) }

// Halves opens the folders of a copy: the one on this machine, where what Alibi
// knows of it is, and the one with the copy itself if that is elsewhere. Both
// are made if they are not there. They are written to by a run that has claimed the
// copy for itself.
func (e *Env) Halves(ctx context.Context, run string, s site.Site) ([]host.Root, func(), error) {
	if err := e.claimed(ctx, run, s); err != nil {
		return nil, nil, err
	}
	dirs := map[string]string{e.Local: e.CopyDir(s.Name)}
	if s.Host != e.Local {
		dirs[s.Host] = Folder(s)
	}
	var out []host.Root
	done := func() {
		for _, r := range out {
			r.Close()
		}
	}
	for _, name := range []string{e.Local, s.Host} {
		dir, wanted := dirs[name]
		if !wanted {
			continue
		}
		delete(dirs, name)
		h, err := e.Host(ctx, name)
		if err != nil {
			done()
			return nil, nil, err
		}
		r, err := h.Make(ctx, dir)
		if err != nil {
			done()
			return nil, nil, err
		}
		out = append(out, r)
		if err := e.giveOver(r, name, s); err != nil {
			done()
			return nil, nil, err
		}
	}
	return out, done, nil
}

// giveOver has a copy's folder on this machine be of the account under which its code will run, and so all that is
// made in it from then on.
func (e *Env) giveOver(r host.Root, hostName string, s site.Site) error {
	to := wall.Account(string(s.ID))
	o, ok := r.(host.Owning)
	if to == nil || !ok || hostName != e.Local {
		return nil
	}
	if err := o.Chown(".", *to); err != nil {
		return fmt.Errorf("giving %s to the copy's account: %w", r.Path(), err)
	}
	return nil
}

// Others gives the numbers of the connections that a live site's own code has to its database now.
func (e *Env) Others(ctx context.Context, s site.Site) ([]int64, error) {
	srv, err := e.asItself(ctx, s, s.Database, false)
	if err != nil {
		return nil, err
	}
	if f, can := srv.(tables.Frequented); can {
		return f.Others(ctx, s.Database.Name)
	}
	return nil, nil
}

// Self is where the server of a site's database is, as it says, and how many statements it was asked; "" where it does
// not tell.
func (e *Env) Self(ctx context.Context, s site.Site) (where string, asked int64, err error) {
	srv, err := e.asItself(ctx, s, s.Database, false)
	if err != nil {
		return "", 0, err
	}
	if d, can := srv.(tables.Distinct); can {
		return d.Self(ctx)
	}
	return "", 0, nil
}

// Abilities tell what the server of a site's database can do; nil where that is not known.
func (e *Env) Abilities(ctx context.Context, s site.Site) (*tables.Abilities, error) {
	srv, err := e.asItself(ctx, s, s.Database, false)
	if err != nil {
		return nil, err
	}
	return AbilitiesOf(ctx, srv)
}

// AbilitiesOn is the same of the server on which sites of a host get their databases.
func (e *Env) AbilitiesOn(ctx context.Context, hostName string) (*tables.Abilities, error) {
	srv, err := e.Server(ctx, hostName)
	if err != nil {
		return nil, err
	}
	return AbilitiesOf(ctx, srv.Server)
}

// ServerAs is the server of a site's database, reached with the password of the account that owns that, whatever the
// site's configuration says.
func (e *Env) ServerAs(ctx context.Context, s site.Site, password string) (tables.Server, error) {
	h, err := e.Host(ctx, s.Host)
	if err != nil {
		return nil, err
	}
	w := engines.Where{Host: h, Database: s.Database,
		Password: func(context.Context) (string, error) { return password, nil }}
	if s.Relay != "" {
		w.Relay = func(ctx context.Context, srv relay.Server) (*relay.Relay, error) {
			return e.relay(ctx, s.Host, s.Root, s.Relay, srv)
		}
	}
	return engines.Own(ctx, w)
}

// AbilitiesOf tell what a server can do; nil where that is not known.
func AbilitiesOf(ctx context.Context, srv tables.Server) (*tables.Abilities, error) {
	able, can := srv.(tables.Able)
	if !can {
		return nil, nil
	}
	a, err := able.Abilities(ctx)
	return &a, err
}
