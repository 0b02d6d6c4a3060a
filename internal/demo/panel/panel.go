// Package panel is a stand-in for the panel of a host: names are attached to sites in it, pending for a while, active
// then, and made the primary one.
package panel

import (
	"crypto/subtle"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"alibi/internal/site"
)

// Panel is one host's.
type Panel struct {
	Token string
	Wait  time.Duration // how long a name is pending
	// Refuse says why a name is not set up; "": it is. nil refuses none.
	Refuse func(name string) string
	// Address is where it answers, once it was started.
	Address string

	mu    sync.Mutex
	sites map[string][]*attached // by document root
	srv   *http.Server
}

type attached struct {
	site.AttachedName
	since time.Time
}

// Start answers on a free loopback port until it is closed. active are names that are attached from the first, by the
// document root of their site, the primary one first.
func (p *Panel) Start(active map[string][]string) error {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("starting the stand-in panel: %w", err)
	}
	p.sites = map[string][]*attached{}
	for root, names := range active {
		for i, n := range names {
			p.sites[root] = append(p.sites[root], &attached{AttachedName: site.AttachedName{Name: n, Primary: i == 0,
				State: site.AttachActive}})
		}
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /names", p.list)
	mux.HandleFunc("PUT /names/{name}", p.attach)
	mux.HandleFunc("PUT /names/{name}/primary", p.primary)
	mux.HandleFunc("DELETE /names/{name}", p.detach)
	p.Address = "http://" + ln.Addr().String()
	p.srv = &http.Server{ReadHeaderTimeout: 10 * time.Second, Handler: http.HandlerFunc(
		func(w http.ResponseWriter, r *http.Request) {
			given := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
			if subtle.ConstantTimeCompare([]byte(given), []byte(p.Token)) != 1 {
				refuse(w, http.StatusUnauthorized, "who asks is not known here")
				return
			}
			p.mu.Lock()
			defer p.mu.Unlock()
			p.goOn()
			mux.ServeHTTP(w, r)
		})}
	go func() { _ = p.srv.Serve(ln) }()
	return nil
}

// Close stops it.
func (p *Panel) Close() { p.srv.Close() }

// goOn has what was pending for long enough be active, or refused.
func (p *Panel) goOn() {
	for _, list := range p.sites {
		for _, a := range list {
			if a.State != site.AttachPending || time.Since(a.since) < p.Wait {
				continue
			}
			a.State, a.Why = site.AttachActive, ""
			if p.Refuse == nil {
				continue
			}
			if why := p.Refuse(a.Name); why != "" {
				a.State, a.Why = site.AttachRefused, why
			}
		}
	}
}

func (p *Panel) list(w http.ResponseWriter, r *http.Request) {
	out := []site.AttachedName{}
	for _, a := range p.sites[r.FormValue("root")] {
		out = append(out, a.AttachedName)
	}
	answer(w, map[string]any{"names": out})
}

// find gives a name of the site that is asked for.
func (p *Panel) find(r *http.Request) (*attached, bool) {
	list := p.sites[r.FormValue("root")]
	i := slices.IndexFunc(list, func(a *attached) bool { return a.Name == r.PathValue("name") })
	if i < 0 {
		return nil, false
	}
	return list[i], true
}

func (p *Panel) attach(w http.ResponseWriter, r *http.Request) {
	root, name := r.FormValue("root"), r.PathValue("name")
	for other, list := range p.sites {
		if slices.ContainsFunc(list, func(a *attached) bool { return a.Name == name && other != root }) {
			refuse(w, http.StatusConflict, "it belongs to "+other)
			return
		}
	}
	if a, is := p.find(r); !is {
		p.sites[root] = append(p.sites[root], &attached{since: time.Now(), AttachedName: site.AttachedName{Name: name,
			State: site.AttachPending, Why: "being set up", Primary: len(p.sites[root]) == 0}})
	} else if a.State == site.AttachRefused { // another try
		a.State, a.Why, a.since = site.AttachPending, "being set up", time.Now()
	}
	w.WriteHeader(http.StatusAccepted)
}

func (p *Panel) primary(w http.ResponseWriter, r *http.Request) {
	a, is := p.find(r)
	switch {
	case !is:
		refuse(w, http.StatusNotFound, "it is not attached")
		return
	case a.State != site.AttachActive:
		refuse(w, http.StatusUnprocessableEntity, "it is "+string(a.State)+": only an active name can be the primary one")
		return
	}
	for _, o := range p.sites[r.FormValue("root")] {
		o.Primary = o == a
	}
	w.WriteHeader(http.StatusNoContent)
}

func (p *Panel) detach(w http.ResponseWriter, r *http.Request) {
	root := r.FormValue("root")
	a, is := p.find(r)
	switch {
	case !is:
		refuse(w, http.StatusNotFound, "it is not attached")
		return
	case a.Primary && len(p.sites[root]) > 1:
		refuse(w, http.StatusUnprocessableEntity, "it is the primary one: detach the others first, or make another one "+
			"the primary one")
		return
	}
	p.sites[root] = slices.DeleteFunc(p.sites[root], func(o *attached) bool { return o == a })
	w.WriteHeader(http.StatusNoContent)
}

func answer(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

func refuse(w http.ResponseWriter, code int, why string) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(code)
	answer(w, map[string]string{"error": why})
}
