package op

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"

	"alibi/internal/site"
)

// Page is how a live site answered for one of its pages.
type Page struct {
	Path   string `json:"path"`
	Status int    `json:"status"` // of HTTP; 0: no answer
}

// ErrNoPages is given for a live site that can't be asked for pages from here.
var ErrNoPages = errors.New("its pages can't be asked for from here")

// PassHeader carries the word with which Alibi looks past the notice that it put
// before a live site's visitors itself.
const PassHeader = "Alibi-Look"

// Pass is that word for a site, and its digest (SHA-256) as the notice holds it.
func (e *Env) Pass(id site.ID) (word, digest string) {
	word = Derive(e.Secret, "looking past the notice", id)
	sum := sha256.Sum256([]byte(word))
	return word, hex.EncodeToString(sum[:])
}

// PassOf is the word with which one looks past a notice: that of the site for which it was put there, which stands
// elsewhere once it has moved on. "" where none of the sites has it.
func (e *Env) PassOf(f site.Front, all []site.Site) string {
	for _, s := range all {
		if word, digest := e.Pass(s.ID); digest == f.Pass {
			return word
		}
	}
	return ""
}

// Worse compares how pages answered before with how they do now, and tells of
// the first that a visitor could see and now can't: one that fails, is refused,
// or does not answer. A page that is gone is no failure: it may have been meant to.
func Worse(before, after []Page) error {
	was := make(map[string]int, len(before))
	for _, p := range before {
		was[p.Path] = p.Status
	}
	for _, p := range after {
		failed := p.Status == 0 || p.Status == http.StatusForbidden || p.Status >= http.StatusInternalServerError
		if s := was[p.Path]; s >= 200 && s < 400 && failed {
			answer := fmt.Sprintf("answers %d now", p.Status)
			if p.Status == 0 {
				answer = "does not answer now"
			}
			return fmt.Errorf("%s answered %d before and %s", p.Path, s, answer)
		}
	}
	return nil
}
