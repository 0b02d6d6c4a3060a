package catalogue

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/transport"
	githttp "github.com/go-git/go-git/v5/plumbing/transport/http"
	gitssh "github.com/go-git/go-git/v5/plumbing/transport/ssh"

	"alibi/internal/host/local"
	"alibi/internal/site"
)

// clone brings the files of a repository at a branch, a tag or a commit. No
// program is run for it: a repository on this machine is read, others are asked
// by HTTP or SSH.
func (c *Client) clone(ctx context.Context, s site.Source, into string) error {
	lim := c.Limits.full()
	ctx, cancel := context.WithTimeoutCause(ctx, lim.Whole, fmt.Errorf("%w: it did not end within %s", ErrTooBig,
		lim.Whole))
	defer cancel()
	repo, err := c.repository(ctx, s, into+".git", lim)
	if err != nil {
		return err
	}
	commit, err := at(repo, s.Ref)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(into, 0o700); err != nil {
		return err
	}
	root, err := os.OpenRoot(into)
	if err != nil {
		return err
	}
	defer root.Close()
	return export(commit, &unpacking{root: root, lim: lim})
}

// repository opens a repository of this machine, or fetches another one.
func (c *Client) repository(ctx context.Context, s site.Source, dir string, lim Limits) (*git.Repository, error) {
	place, isURL := s.From, false
	if u, err := url.Parse(s.From); err == nil && u.Scheme != "" {
		isURL = u.Scheme != "file"
		place = u.Path
		if isURL && u.Scheme != "http" && u.Scheme != "https" && u.Scheme != "ssh" {
			return nil, fmt.Errorf("%w: repositories are fetched by http, https and ssh, not by %s", ErrHostile,
				u.Scheme)
		}
	} else if user, _, ok := strings.Cut(s.From, ":"); ok && strings.Contains(user, "@") &&
		!strings.ContainsAny(user, "/ ") {
		isURL = true // user@host:path
	}
	if !isURL {
		r, err := git.PlainOpen(place)
		if err != nil {
			return nil, fmt.Errorf("the repository %s: %w", place, err)
		}
		return r, nil
	}
	auth, err := credentials(s)
	if err != nil {
		return nil, err
	}
	hint := ""
	if s.Secret == "" && !strings.HasPrefix(s.From, "http") {
		hint = "; without a key (--secret-file) an SSH agent is asked for one"
	}
	watch, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go func() { // the protocol says nothing of sizes
		for watch.Err() == nil {
			if local.Size(dir) > lim.Bytes {
				cancel(fmt.Errorf("%w: the repository is more than %s", ErrTooBig, site.Size(lim.Bytes)))
			}
			select {
			case <-watch.Done():
			case <-time.After(100 * time.Millisecond):
			}
		}
	}()
	r, err := git.PlainCloneContext(watch, dir, true, &git.CloneOptions{URL: s.From, Auth: auth, Tags: git.AllTags})
	if cause := context.Cause(watch); err != nil && cause != nil {
		err = cause
	}
	switch {
	case errors.Is(err, transport.ErrAuthenticationRequired), errors.Is(err, transport.ErrAuthorizationFailed):
		return nil, fmt.Errorf("the repository is not open to everybody: %w; name a file with a token or a key: "+
			"--secret-file", err)
	case err != nil:
		return nil, fmt.Errorf("fetching the repository: %w%s", err, hint)
	}
	return r, nil
}

// credentials reads a key or a token from the file that was named.
func credentials(s site.Source) (transport.AuthMethod, error) {
	if s.Secret == "" {
		return nil, nil
	}
	f, err := os.Open(s.Secret)
	if err != nil {
		return nil, fmt.Errorf("the secret for the repository: %w", err)
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, 64<<10))
	if err != nil {
		return nil, fmt.Errorf("the secret for the repository: %w", err)
	}
	if strings.Contains(string(b), "PRIVATE KEY") {
		user := "git"
		if u, err := url.Parse(s.From); err == nil && u.User != nil {
			user = u.User.Username()
		}
		return gitssh.NewPublicKeys(user, b, "")
	}
	return &githttp.BasicAuth{Username: "token", Password: strings.TrimSpace(string(b))}, nil
}

// at finds a commit by a branch's, a tag's or its own name.
func at(repo *git.Repository, ref string) (*object.Commit, error) {
	if ref == "" {
		ref = "HEAD"
	}
	for _, name := range []string{ref, "refs/remotes/origin/" + ref} {
		if h, err := repo.ResolveRevision(plumbing.Revision(name)); err == nil {
			return repo.CommitObject(*h)
		}
	}
	return nil, fmt.Errorf("the repository has no branch, tag or commit %q", ref)
}

// export writes the files of a commit.
func export(commit *object.Commit, x *unpacking) error {
	t, err := commit.Tree()
	if err != nil {
		return fmt.Errorf("reading the repository: %w", err)
	}
	return t.Files().ForEach(func(f *object.File) error {
		name, err := x.name(filepath.ToSlash(f.Name))
		if err != nil {
			return err
		}
		if !f.Mode.IsRegular() && f.Mode.String() != "0100755" {
			return fmt.Errorf("%w: the repository holds a link: %q", ErrHostile, name)
		}
		r, err := f.Reader()
		if err != nil {
			return fmt.Errorf("reading %s of the repository: %w", name, err)
		}
		defer r.Close()
		return x.put(name, commit.Committer.When, r)
	})
}
