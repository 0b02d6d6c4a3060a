package gateway

import (
	"bytes"
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
	return strings.Join([]string{purpose, string(id), account, strconv.FormatInt(until.Unix(), 10), base64.RawURLEncoding.EncodeToString(b[:])}, "\n")
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

// enter takes a latchkey, once.
func (g *Gateway) enter(w http.ResponseWriter, r *http.Request, s site.Site) {
	f, ok := check(g.Secret, strings.TrimPrefix(r.URL.Path, "/-/key/"), "key", s.ID, g.Now())
	if ok {
		used, err := g.Used(r.Context(), f[4])
		ok = err == nil && !used
	}
	if !ok {
		g.notice(w, http.StatusForbidden, notice{Heading: "This key does not fit", Lines: []string{"A key opens once, within a minute of being made. Make a new one: alibi open " + s.Name + " --inside"}})
		return
	}
	http.SetCookie(w, &http.Cookie{Name: cookieName, Value: sign(g.Secret, payload("session", s.ID, f[2], g.Now().Add(sessionLife))), Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: int(sessionLife.Seconds())})
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
	var bar bytes.Buffer
	if err := pages.ExecuteTemplate(&bar, "banner", b); err != nil {
		g.Log.Error("gateway", "err", err)
		return
	}
	style := []byte(`<style>.alibi-bar{position:sticky;top:0;z-index:9999;font:14px/1.45 system-ui,sans-serif;background:#1d2733;color:#fff;padding:.5rem 1rem;display:flex;gap:.7rem}.alibi-bar a{color:#a9dcec}</style>`)
	at := 0
	if i := bytes.Index(bytes.ToLower(page), []byte("<body")); i >= 0 {
		if j := bytes.IndexByte(page[i:], '>'); j >= 0 {
			at = i + j + 1
		}
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	for _, part := range [][]byte{page[:at], style, bar.Bytes(), page[at:]} {
		_, _ = w.Write(part)
	}
}
