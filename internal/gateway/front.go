package gateway

import (
	"crypto/sha256"
	"net/http"

	"golang.org/x/crypto/bcrypt"

	"alibi/internal/site"
)

// inFront answers for a copy before which a notice was put, or which asks for a
// password, and tells whether the visitor is let in.
func (g *Gateway) inFront(w http.ResponseWriter, r *http.Request, s site.Site) bool {
	switch f := s.Front; {
	case f == nil:
		return true
	case f.Kind == site.FrontHidden:
		if _, word, ok := r.BasicAuth(); ok && g.knows(f.Word, word) {
			r.Header.Del("Authorization") // it is not for the copy
			return true
		}
		w.Header().Set("WWW-Authenticate", `Basic realm="`+s.Name+`", charset="UTF-8"`)
		g.notice(
			w,
			http.StatusUnauthorized,
			notice{
				Heading: s.Name + " is hidden",
				Lines: []string{
					"It asks for a password; any name will do.",
					"Whoever looks after it can say: alibi lift " + s.Name,
				},
			},
		)
	default:
		lines := []string{f.Sentence()}
		if f.Contact != "" {
			lines = append(lines, "Contact: "+f.Contact)
		}
		w.Header().Set("Retry-After", "60")
		g.notice(w, http.StatusServiceUnavailable, notice{Heading: f.Heading(), Lines: lines})
	}
	return false
}

// knows compares a password with its digest; what was right once is remembered,
// since digests are slow on purpose.
func (g *Gateway) knows(digest []byte, word string) bool {
	key := sha256.Sum256(append(append([]byte{}, digest...), word...))
	if _, ok := g.let.Load(key); ok {
		return true
	}
	if bcrypt.CompareHashAndPassword(digest, []byte(word)) != nil {
		return false
	}
	g.let.Store(key, true)
	return true
}
