package gateway

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"alibi/internal/site"
)

// Times of a latchkey and of the session that it opens.
const (
	keyLife     = time.Minute
	sessionLife = 8 * time.Hour
	cookieName  = "alibi_inside"
)

// sign makes "payload.mac", both in base64; the MAC is cut to 128 bits.
func sign(secret []byte, payload string) string {
	m := hmac.New(sha256.New, secret)
	m.Write([]byte(payload))
	enc := base64.RawURLEncoding
	return enc.EncodeToString([]byte(payload)) + "." + enc.EncodeToString(m.Sum(nil)[:16])
}

// check gives the fields of a signed payload that is still good.
func check(secret []byte, token, purpose string, id site.ID, now time.Time) ([]string, bool) {
	p, _, ok := strings.Cut(token, ".")
	payload, err := base64.RawURLEncoding.DecodeString(p)
	if !ok || err != nil || !hmac.Equal([]byte(sign(secret, string(payload))), []byte(token)) {
		return nil, false
	}
	f := strings.Split(string(payload), "\n")
	if len(f) != 5 || f[0] != purpose || f[1] != string(id) {
		return nil, false
	}
	until, err := strconv.ParseInt(f[3], 10, 64)
	return f, err == nil && now.Before(time.Unix(until, 0))
}

func payload(purpose string, id site.ID, account string, until time.Time) string {
	var b [9]byte
	_, _ = rand.Read(b[:])
	return strings.Join(
		[]string{
			purpose,
			string(id),
			account,
			strconv.FormatInt(until.Unix(), 10),
			base64.RawURLEncoding.EncodeToString(b[:]),
		},
		"\n",
	)
}

// Latchkey is an address that signs in once to a copy as an account, within a minute.
func Latchkey(secret []byte, s site.Site, account string, now time.Time) string {
	return fmt.Sprintf("%s/-/key/%s", s.Address(), sign(secret, payload("key", s.ID, account, now.Add(keyLife))))
}

// session gives the account that a request is signed in as, or "".
func (g *Gateway) session(r *http.Request, s site.Site) string {
	c, err := r.Cookie(cookieName)
	if err != nil {
		return ""
	}
	f, ok := check(g.Secret, c.Value, "session", s.ID, g.Now())
	if !ok {
		return ""
	}
	return f[2]
}

// take gives the account of a request's latchkey, once.
func (g *Gateway) take(r *http.Request, s site.Site) (string, bool) {
	f, ok := check(g.Secret, strings.TrimPrefix(r.URL.Path, "/-/key/"), "key", s.ID, g.Now())
	if !ok {
		return "", false
	}
	used, err := g.Used(r.Context(), f[4])
	return f[2], err == nil && !used
}

func (g *Gateway) badKey(w http.ResponseWriter, s site.Site) {
	g.notice(
		w,
		http.StatusForbidden,
		notice{
			Heading: "This key does not fit",
			Lines: []string{
				"A key opens once, within a minute of being made. Make a new one: alibi open " + s.Name + " --inside",
			},
		},
	)
}

// keyUnspent answers programs that look at a key's address without using it, as
// those do that show what is behind a link.
func keyUnspent(w http.ResponseWriter) {
	w.Header().Set("Allow", "GET")
	w.WriteHeader(http.StatusNoContent)
}

// enter takes a latchkey to the preview.
func (g *Gateway) enter(w http.ResponseWriter, r *http.Request, s site.Site) {
	if r.Method != http.MethodGet {
		keyUnspent(w)
		return
	}
	account, ok := g.take(r, s)
	if !ok {
		g.badKey(w, s)
		return
	}
	http.SetCookie(
		w,
		&http.Cookie{
			Name:     cookieName,
			Value:    sign(g.Secret, payload("session", s.ID, account, g.Now().Add(sessionLife))),
			Path:     "/",
			HttpOnly: true,
			SameSite: http.SameSiteStrictMode,
			MaxAge:   int(sessionLife.Seconds()),
		},
	)
	http.Redirect(w, r, "/-/inside", http.StatusSeeOther)
}

func (g *Gateway) leave(w http.ResponseWriter, r *http.Request) {
	http.SetCookie(w, &http.Cookie{Name: cookieName, Path: "/", MaxAge: -1})
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// htmlFile serves a page that is a file, with the banner put into it.
func (g *Gateway) htmlFile(w http.ResponseWriter, f io.Reader, b banner) {
	page, err := io.ReadAll(io.LimitReader(f, 8<<20))
	if err != nil {
		g.Log.Error("gateway", "err", err)
		return
	}
	page, err = withBanner(page, b)
	if err != nil {
		g.Log.Error("gateway", "err", err)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write(page)
}
