package move_test

import (
	"bytes"
	"context"
	"crypto/md5"
	"fmt"
	"io"
	"mime/multipart"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/demo/real"
	"alibi/internal/demo/real/realtest"
	"alibi/internal/desk"
	"alibi/internal/dns"
	"alibi/internal/dns/dnstest"
	"alibi/internal/plan"
	"alibi/internal/runtime/mariadb/mariadbtest"
	"alibi/internal/runtime/process"
	"alibi/internal/tables"
)

// takesOrders is a plugin by which visitors order: ?order=ID puts a row into a table of the site.
const takesOrders = `<?php
add_action( 'init', function () {
	if ( isset( $_FILES['plan'] ) ) {
		setcookie( 'deck', 'two' );
		if ( $_FILES['plan']['error'] ) {
			die( 'upload failed with ' . $_FILES['plan']['error'] . ini_get( 'upload_tmp_dir' ) . sys_get_temp_dir() );
		}
		die( __DIR__ . ' ' . $_POST['note']['a'] . ' ' . $_FILES['plan']['name'] . ' ' .
			md5_file( $_FILES['plan']['tmp_name'] ) . ' ' . $_SERVER['HTTP_X_FORWARDED_FOR'] );
	}
	if ( isset( $_GET['order'] ) ) {
		global $wpdb;
		$wpdb->query( 'SELECT 1' );
		usleep( isset( $_GET['slow'] ) ? 2500000 : 30000 );
		$ok = $wpdb->insert( $wpdb->comments, array( 'comment_post_ID' => 1, 'comment_content' => 'order ' . $_GET['order'],
			'comment_author' => __DIR__ ) );
		die( $ok ? 'taken' : 'failed' );
	}
} );
`

// ferry is a shop on the air at one address of this machine, with room for it at another.
type ferry struct {
	moving
	world *realtest.World
	live  *realtest.Live
	names dnstest.Knot
	root  string // at the new place
	dock  *real.Machine
	from  string // databases
}

func newFerry(t *testing.T) *ferry {
	w := realtest.New(t, realtest.Options{})
	k := dnstest.Start(t, "127.0.0.1", true)
	zone(t, w.Base, k)
	require.NoError(t, w.Desk.Close())
	w.Open()
	w.Keep()
	f := &ferry{world: w, names: k, dock: w.Machine("drydock")}
	f.live = w.Live("tickets")
	plugins := filepath.Join(f.live.Spec.Root, "wp-content/mu-plugins")
	require.NoError(t, os.MkdirAll(plugins, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(plugins, "orders.php"), []byte(takesOrders), 0o644))
	f.root = filepath.Join(f.dock.Dir, "www", "tickets")
	f.moving = moving{World: w.World, t: t}
	f.owned(plugins)
	f.from = f.live.Spec.Database
	return f
}

// begin begins the move.
func (f *ferry) begin() plan.Move {
	f.t.Helper()
	m, err := f.Desk.Moves.Begin(f.t.Context(), desk.NewMove{Site: f.live.Site.ID, Host: "drydock", Root: f.root,
		Web: []string{"127.0.0.2"}})
	require.NoError(f.t, err)
	require.False(f.t, m.Survey.Blocked(), m.Survey.Findings)
	f.name = m.Name
	return m
}

// serveThere puts the web server of the new place to work, at another address and the same port.
func (f *ferry) serveThere() {
	f.t.Helper()
	run, err := os.MkdirTemp("", "alibi-web-")
	require.NoError(f.t, err)
	f.t.Cleanup(func() {
		process.Reap(run)
		os.RemoveAll(run)
	})
	require.NoError(f.t, os.Chmod(run, 0o755))
	if f.owned(f.root, run); os.Getuid() == 0 {
		_, socket, _ := strings.Cut(f.dock.Server(), ":")
		for _, name := range []string{f.root, socket} {
			for dir := filepath.Dir(name); dir != "/"; dir = filepath.Dir(dir) {
				fi, err := os.Stat(dir)
				require.NoError(f.t, err)
				require.NoError(f.t, os.Chmod(dir, fi.Mode().Perm()|0o011))
			}
		}
	}
	spec := f.live.Spec
	spec.Root = f.root
	web, err := real.ServeAs(context.Background(), spec, run, realtest.Account)
	require.NoError(f.t, err)
	f.t.Cleanup(web.Stop)
	_, port, err := net.SplitHostPort(strings.TrimPrefix(f.live.Spec.URL, "http://"))
	require.NoError(f.t, err)
	ln, err := net.Listen("tcp", "127.0.0.2:"+port)
	require.NoError(f.t, err)
	f.t.Cleanup(func() { ln.Close() })
	go realtest.Answer(ln, web)
}

// owned gives folders to the account of the web server, where we may.
func (f *ferry) owned(dirs ...string) {
	f.t.Helper()
	if os.Getuid() != 0 {
		return
	}
	out, err := exec.Command("chown", append([]string{"-R", realtest.Account + ":" + realtest.Account}, dirs...)...).
		CombinedOutput()
	require.NoError(f.t, err, string(out))
}

// ready goes through all gates before the switch.
func (f *ferry) ready() {
	f.t.Helper()
	f.gate(plan.LegCarry)
	f.serveThere()
	f.proven()
}

// proven goes through what is left of them where the new place is served already.
func (f *ferry) proven() {
	f.t.Helper()
	f.gate(plan.LegCheck)
	check := f.now().Check
	require.True(f.t, check.Holds, check.Findings)
	require.NotEmpty(f.t, check.Pages, check.Findings)
	for _, p := range check.Pages {
		assert.Equal(f.t, p.Old, p.New, p.Path)
	}
	_, err := f.Desk.Moves.Lower(f.t.Context(), f.name, f.live.Site.Name)
	require.NoError(f.t, err)
	f.overdue()
}

// visitors order all the time, each keeping the answer of the name server for as long as it may.
type visitors struct {
	stop    context.CancelFunc
	all     sync.WaitGroup
	mu      sync.Mutex
	taken   []string
	said    []string        // what was said instead
	unsure  map[string]bool // of which no answer came
	longest time.Duration
}

func (f *ferry) visitors(n int) *visitors {
	ctx, cancel := context.WithCancel(context.Background())
	v := &visitors{stop: cancel, unsure: map[string]bool{}}
	_, port, _ := net.SplitHostPort(strings.TrimPrefix(f.live.Spec.URL, "http://"))
	for i := range n {
		v.all.Go(func() {
			address, until := "", time.Time{}
			since := time.Now()
			for n := 0; ctx.Err() == nil; {
				if time.Now().After(until) {
					r, err := dns.Server(f.names.Server).Set(ctx, shop, "A")
					if err != nil || len(r.Values) == 0 {
						continue
					}
					address, until = r.Values[0], time.Now().Add(min(r.TTL, 2*time.Second))
				}
				id := fmt.Sprintf("%d-%d", i, n)
				body, err := ask(address, port, f.live.Spec.URL+"/?order="+id)
				v.mu.Lock()
				switch {
				case err == nil && body == "taken":
					v.taken = append(v.taken, id)
					v.longest = max(v.longest, time.Since(since))
					since = time.Now()
					n++
				case err != nil:
					v.unsure[id] = true
					n++
				default:
					v.said = append(v.said, id+" "+address+": "+time.Now().Format("05.000 ")+body[max(0, len(body)-300):])
				}
				v.mu.Unlock()
				time.Sleep(20 * time.Millisecond)
			}
		})
	}
	return v
}

func ask(address, port, url string) (string, error) {
	c := &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{DisableKeepAlives: true,
		DialContext: func(ctx context.Context, n, _ string) (net.Conn, error) {
			var d net.Dialer
			return d.DialContext(ctx, n, net.JoinHostPort(address, port))
		}}}
	resp, err := c.Get(url)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	return string(b), err
}

// end stops them, and sees whether each order is there exactly once.
func (v *visitors) end(t *testing.T, db tables.Writable) {
	t.Helper()
	v.stop()
	v.all.Wait()
	snap, err := db.Snapshot(context.Background())
	require.NoError(t, err)
	defer snap.Close()
	tab, ok := snap.Schema().Table("sk_comments")
	require.True(t, ok)
	at := tab.Column("comment_content")
	found := map[string]int{}
	require.NoError(t, snap.Read(context.Background(), tab.Name, tables.Range{}, func(r tables.Row) error {
		if id, is := strings.CutPrefix(r.Values[at].String(), "order "); is {
			found[id]++
		}
		return nil
	}))
	require.Greater(t, len(v.taken), 5, "they came all the time")
	delete(found, "handed-on")
	for _, id := range v.taken {
		if !assert.Equal(t, 1, found[id], "order %s was taken", id) {
			for _, s := range v.said {
				if strings.HasPrefix(s, id+" ") {
					t.Log(s)
				}
			}
		}
		delete(found, id)
	}
	for id, n := range found {
		assert.True(t, v.unsure[id] && n == 1, "order %s is there %d times, and was not taken", id, n)
	}
}

func TestEveryOrderIsWhereTheSiteServes(t *testing.T) {
	f := newFerry(t)
	m := f.begin()
	assert.True(t, m.Server)
	v := f.visitors(3)
	f.ready()
	require.NotEmpty(t, f.now().Check.Pages)
	f.gate(plan.LegCarry)
	f.gate(plan.LegSwitch)
	t.Logf("held for %s on the way there", f.now().Switches[0].Held)
	f.handsOn()
	time.Sleep(2500 * time.Millisecond)
	f.gate(plan.LegBack)
	t.Logf("held for %s on the way back", f.now().Switches[1].Held)
	time.Sleep(2500 * time.Millisecond)
	f.gate(plan.LegSwitch)
	time.Sleep(2500 * time.Millisecond)
	s := f.Site(f.live.Site.Name)
	assert.Equal(t, "drydock", s.Host)
	v.end(t, f.dock.Admin().Open(s.Database.Name, tables.Prefix{}))
	t.Logf("%d orders; one waited for %s", len(v.taken), v.longest)
	assert.Empty(t, v.unsure, "every visitor got an answer")
}

func TestWhoHadBegunToOrderIsWaitedFor(t *testing.T) {
	f := newFerry(t)
	f.begin()
	f.ready()
	ordered := make(chan string, 1)
	go func() {
		_, page := f.live.Page("/?order=late&slow=1")
		ordered <- page
	}()
	time.Sleep(700 * time.Millisecond) // it has begun
	f.gate(plan.LegSwitch)
	assert.Equal(t, "taken", <-ordered)
	assert.Greater(t, f.now().Switches[0].Held, 1500*time.Millisecond, "it was waited for")
	s := f.Site(f.live.Site.Name)
	var found int
	snap, err := f.dock.Admin().Open(s.Database.Name, tables.Prefix{}).Snapshot(t.Context())
	require.NoError(t, err)
	defer snap.Close()
	tab, _ := snap.Schema().Table("sk_comments")
	require.NoError(t, snap.Read(t.Context(), tab.Name, tables.Range{}, func(r tables.Row) error {
		if r.Values[tab.Column("comment_content")].String() == "order late" {
			found++
		}
		return nil
	}))
	assert.Equal(t, 1, found)
}

func TestWhoWritesPastTheNoticeStopsTheSwitch(t *testing.T) {
	f := newFerry(t)
	f.begin()
	f.ready()
	db := mariadbtest.DB(f.from)
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		for n := 0; ctx.Err() == nil; n++ {
			_ = db.Exec(ctx, fmt.Sprintf("UPDATE sk_options SET option_value = 'tide %d' "+
				"WHERE option_name = 'blogdescription'", n))
			time.Sleep(20 * time.Millisecond)
		}
	}()
	p, err := f.Desk.Moves.Plan(t.Context(), f.now(), plan.LegSwitch)
	require.NoError(t, err)
	r := f.Run(p)
	stop()
	<-done
	assert.NotEqual(t, plan.Done, r.State)
	assert.Contains(t, r.Error, "past the notice: table sk_options")
	s := f.Site(f.live.Site.Name)
	assert.Equal(t, "slipway", s.Host)
	assert.Nil(t, s.Front)
	assert.Equal(t, 200, f.live.Get("/"), "visitors are let in where they were")
	web, err := f.names.Server.Web(t.Context(), shop)
	require.NoError(t, err)
	assert.Equal(t, []string{"127.0.0.1"}, web[0].Values)
	f.gate(plan.LegSwitch)
}

// handsOn sees that who comes to the old place is handed on to the new one, with all that they send.
func (f *ferry) handsOn() {
	f.t.Helper()
	time.Sleep(2200 * time.Millisecond) // PHP looks again whether the notice is another one
	status, page := f.live.Page("/?order=handed-on")
	assert.Equal(f.t, 200, status)
	assert.Equal(f.t, "taken", page)
	var body bytes.Buffer
	w := multipart.NewWriter(&body)
	require.NoError(f.t, w.WriteField("note[a]", "deck \"two\" é"))
	file, err := w.CreateFormFile("plan", "plan of \"deck\".txt")
	require.NoError(f.t, err)
	data := bytes.Repeat([]byte("\r\n--not a boundary\x00"), 500)
	_, err = file.Write(data)
	require.NoError(f.t, err)
	require.NoError(f.t, w.Close())
	c := &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, n, addr string) (net.Conn, error) {
		var d net.Dialer
		_, port, _ := net.SplitHostPort(addr)
		return d.DialContext(ctx, n, "127.0.0.1:"+port)
	}}}
	resp, err := c.Post(f.live.Spec.URL+"/", w.FormDataContentType(), &body)
	require.NoError(f.t, err)
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	require.NoError(f.t, err)
	assert.Equal(f.t, fmt.Sprintf("%s/wp-content/mu-plugins deck \"two\" é plan of \"deck\".txt %x 127.0.0.1", f.root,
		md5.Sum(data)), strings.ReplaceAll(string(text), "\\", ""))
	assert.Equal(f.t, "deck=two", resp.Header.Get("Set-Cookie"))
}
