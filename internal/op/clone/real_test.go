package clone_test

import (
	"context"
	"io"
	"net"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real/realtest"
	"alibi/internal/evidence"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// ask gets a page of a copy, without following where it leads.
func ask(t *testing.T, s site.Site, path string, cookies ...*http.Cookie) (*http.Response, string) {
	t.Helper()
	c := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "tcp", "127.0.0.1:"+s.Address().Port)
	}}}
	req, err := http.NewRequest(http.MethodGet, s.Address().String()+path, nil)
	require.NoError(t, err)
	for _, k := range cookies {
		req.AddCookie(k)
	}
	resp, err := c.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp, string(b)
}

func check(t *testing.T, rep evidence.Report, name string) evidence.Check {
	t.Helper()
	for _, c := range rep.Checks {
		if c.Name == name {
			return c
		}
	}
	t.Fatalf("no check %q among %d", name, len(rep.Checks))
	return evidence.Check{}
}

func TestARealSite(t *testing.T) {
	for name, own := range map[string]bool{"on the same server": false, "from server to server": true} {
		t.Run(name, func(t *testing.T) {
			w := realtest.New(t, realtest.Options{Own: own})
			live := w.Make("ferry")
			assert.Equal(t, "mysql", live.Database.Engine)
			w.Keep()
			ctx := context.Background()
			r := w.Run(w.Plan(live.Name, "winter"))
			if r.State != plan.Done {
				reps, _ := w.Desk.Reports(ctx, r.Plan.Target.ID, 1)
				for _, rep := range reps {
					for _, c := range rep.Checks {
						t.Logf("%s %s: %s %v", c.Verdict, c.Title, c.Text, c.Where)
					}
				}
			}
			require.Equal(t, plan.Done, r.State, r.Error)
			for _, p := range r.Steps {
				t.Log(p.Name, p.Ended.Sub(p.Began), p.Note)
			}
			s := w.Site("winter")
			reps, err := w.Desk.Reports(ctx, s.ID, 1)
			require.NoError(t, err)
			for _, c := range reps[0].Checks {
				t.Logf("%s %s: %s | %s | %s %v", c.Verdict, c.Title, c.Origin, c.Copy, c.Text, c.Where)
			}
			resp, page := ask(t, s, "/")
			assert.Equal(t, 200, resp.StatusCode)
			assert.Contains(t, page, "<b>COPY</b>")
			assert.NotContains(t, page, "ferry.skerryline.example/")
		})
	}
}
