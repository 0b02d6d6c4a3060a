package wordpress_test

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/host"
	"alibi/internal/host/trust"
	"alibi/internal/stack"
	"alibi/internal/stack/wordpress"
)

// pages is a site's back end: of each path and method what it answers.
type pages map[string]func(w http.ResponseWriter, r *http.Request)

func shows(text string) func(http.ResponseWriter, *http.Request) {
	return func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, text) }
}

const (
	signInForm = `<form action="/blog/wp-login.php" method="post"><input name="log"><input type="password" name="pwd">
		<input type="checkbox" name="rememberme"><input type="hidden" name="redirect_to" value="/blog/wp-admin/"></form>`
	uploadForm = `<a href="/blog/wp-login.php?action=logout&amp;_wpnonce=7">Log Out</a><form action="update.php?action=x">
		<input type="hidden" name="_wpnonce" value="abc"><input type="file" name="pluginzip"></form>`
)

// backEnd lets runa in and takes what she uploads, but for what is other in a test.
func backEnd(t *testing.T, other pages) (u *url.URL, asked *[]string) {
	t.Helper()
	asked = new([]string)
	usual := pages{
		"GET /blog/wp-login.php": shows(signInForm),
		"POST /blog/wp-login.php": func(w http.ResponseWriter, r *http.Request) {
			if r.FormValue("log") != "runa" || r.FormValue("pwd") != "right" || r.FormValue("redirect_to") == "" {
				_, _ = io.WriteString(w, `<div id="login_error"><strong>Error:</strong> The password is not right.</div>`)
				return
			}
			http.SetCookie(w, &http.Cookie{Name: "wordpress_logged_in_1", Value: "yes", Path: "/blog/"})
			http.Redirect(w, r, r.FormValue("redirect_to"), http.StatusFound)
		},
		"GET /blog/wp-admin/plugin-install.php": shows(uploadForm),
		"POST /blog/wp-admin/update.php": func(_ http.ResponseWriter, r *http.Request) {
			_, h, err := r.FormFile("pluginzip")
			assert.NoError(t, err)
			assert.Equal(t, "alibi-relay-1.zip", h.Filename)
			assert.Equal(t, "abc", r.FormValue("_wpnonce"))
			assert.Equal(t, "word", r.Header.Get("Alibi-Look"))
		},
	}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at := r.Method + " " + r.URL.Path
		*asked = append(*asked, at+"?"+r.URL.RawQuery)
		if do := other[at]; do != nil {
			do(w, r)
		} else if do := usual[at]; do != nil {
			do(w, r)
		} else {
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(s.Close)
	u, err := url.Parse(s.URL + "/blog")
	require.NoError(t, err)
	return u, asked
}

func admit(u *url.URL, password string) (*url.URL, error) {
	return wordpress.Stack{}.Admit(context.Background(), stack.Admission{Client: trust.Client(u, "", ""), Address: u,
		Header: http.Header{"Alibi-Look": {"word"}}, User: "runa", Password: password, Name: "alibi-relay-1.php",
		Before: func(context.Context) error { return nil }, Text: "<?php\n/*\n * ours\n */\n"})
}

func TestAFileIsAdmitted(t *testing.T) {
	u, asked := backEnd(t, nil)
	to, err := admit(u, "right")
	require.NoError(t, err)
	assert.Equal(t, u.String()+"/wp-content/plugins/alibi-relay-1/alibi-relay-1.php", to.String())
	assert.Equal(t, "GET /blog/wp-login.php?action=logout&_wpnonce=7", (*asked)[len(*asked)-1], "it signs out")
	assert.NotContains(t, *asked, "GET /blog/wp-admin/?", "the dashboard begins a draft in the site's database")
}

func TestWhyAFileIsNotAdmitted(t *testing.T) {
	login, install, update := "GET /blog/wp-login.php", "GET /blog/wp-admin/plugin-install.php",
		"POST /blog/wp-admin/update.php"
	for name, c := range map[string]struct {
		other    pages
		password string
		want     error
		says     string
	}{
		"wrong password": {nil, "wrong", host.ErrAuth, "The password is not right"},
		"no form":        {pages{login: shows("<h1>elsewhere</h1>")}, "right", stack.ErrNotAdmitted, "no form to sign in"},
		"a second factor": {pages{"POST /blog/wp-login.php": shows(`<input name="code">`)}, "right", host.ErrAuth,
			"second factor"},
		"a picture": {pages{login: shows(strings.Replace(signInForm, "</form>", `<input name="what_you_see"></form>`, 1))},
			"right", host.ErrAuth, "what_you_see"},
		"may not install": {pages{install: shows(`<div class="wp-die-message">Sorry, you are not allowed</div>`)}, "right",
			stack.ErrNotAdmitted, "you are not allowed"},
		"may not write": {pages{update: shows(`<form><input name="hostname"><input name="username"></form>`)}, "right",
			stack.ErrNotAdmitted, "asks for an account of the host"},
		"another address": {pages{login: func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "https://www.skerryline.example/", http.StatusFound)
		}}, "right", nil, "leads to https://www.skerryline.example/"},
		"a form of others": {pages{login: shows(strings.Replace(signInForm, "/blog/wp-login.php",
			"https://other.example/in", 1))}, "right", nil, "leads to https://other.example/in"},
		"in circles": {pages{login: func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "/blog/wp-login.php", http.StatusFound)
		}}, "right", nil, "without an end"},
	} {
		t.Run(name, func(t *testing.T) {
			u, _ := backEnd(t, c.other)
			_, err := admit(u, c.password)
			require.ErrorContains(t, err, c.says)
			if c.want != nil {
				assert.ErrorIs(t, err, c.want)
			}
			assert.NotContains(t, err.Error(), c.password)
		})
	}
}
