package gateway

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"alibi/internal/site"
)

func TestWhatVisitorsSeeInsteadOfACopy(t *testing.T) {
	word, err := bcrypt.GenerateFromPassword([]byte("made-up"), bcrypt.MinCost)
	require.NoError(t, err)
	ask := func(g *Gateway, f *site.Front, user, password string) (int, string, bool, http.Header) {
		w := httptest.NewRecorder()
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		if user != "" {
			r.SetBasicAuth(user, password)
		}
		in := g.inFront(w, r, site.Site{Name: "near", Front: f})
		if in {
			assert.Empty(t, r.Header.Get("Authorization"), "what is for the gateway does not reach the copy")
		}
		return w.Code, w.Body.String(), in, w.Header()
	}
	g := &Gateway{Now: time.Now}
	_, _, in, _ := ask(g, nil, "", "")
	assert.True(t, in)
	code, page, in, _ := ask(g, &site.Front{Kind: site.FrontParked, Text: "Until <b>Friday</b>",
		Contact: "harbour@skerryline.example"}, "", "")
	assert.False(t, in)
	assert.Equal(t, http.StatusServiceUnavailable, code)
	assert.Contains(t, page, "Until &lt;b&gt;Friday&lt;/b&gt;")
	assert.Contains(t, page, "Contact: harbour@skerryline.example")
	code, page, in, _ = ask(g, &site.Front{Kind: site.FrontMaintenance}, "", "")
	assert.False(t, in)
	assert.Equal(t, http.StatusServiceUnavailable, code)
	assert.Contains(t, page, "being worked on")
	hidden := &site.Front{Kind: site.FrontHidden, Word: word}
	code, _, in, h := ask(g, hidden, "", "")
	assert.False(t, in)
	assert.Equal(t, http.StatusUnauthorized, code)
	assert.Contains(t, h.Get("WWW-Authenticate"), "Basic")
	for range 2 {
		_, _, in, _ = ask(g, hidden, "anybody", "wrong")
		assert.False(t, in)
		_, _, in, _ = ask(g, hidden, "anybody", "made-up")
		assert.True(t, in)
	}
	other, err := bcrypt.GenerateFromPassword([]byte("another"), bcrypt.MinCost)
	require.NoError(t, err)
	_, _, in, _ = ask(g, &site.Front{Kind: site.FrontHidden, Word: other}, "anybody", "made-up")
	assert.False(t, in, "what was right for one is not for another")
}
