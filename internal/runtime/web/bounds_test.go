package web_test

import (
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/runtime/wall"
	"alibi/internal/runtime/web"
	"alibi/internal/site"
)

// greedy takes as much of something as it is asked to.
const greedy = `<?php
switch ($_GET['take']) {
	case 'cpu': while (true) {} break;
	case 'file':
		for ($i = 0; $i < 100; $i++) file_put_contents(__DIR__ . '/one', str_repeat('x', 100000), FILE_APPEND); break;
	case 'program': $x = str_repeat('x', 2000000000); break;
	case 'memory': $x = str_repeat('x', 300000000); sleep(60); break;
	case 'processes': for ($i = 0; $i < 40; $i++) $p[] = @proc_open('exec sleep 60', array(), $pipes); sleep(60); break;
	case 'files': for ($i = 0; $i < 600; $i++) $f[] = fopen(__FILE__, 'r'); break;
	case 'temp': for ($i = 0; $i < 20; $i++) file_put_contents('/tmp/many' . $i, str_repeat('x', 4000000)); break;
	case 'disk': for ($i = 0; $i < 20; $i++) file_put_contents(__DIR__ . '/many' . $i, str_repeat('x', 2000000)); break;
}
echo 'taken';
`

func TestBoundsOfACopyThatAreMetAreToldAndKept(t *testing.T) {
	root, run := siteAt(t)
	require.NoError(t, os.WriteFile(filepath.Join(root, "index.php"), []byte(greedy), 0o644))
	var mu sync.Mutex
	met := map[string]wall.Met{}
	s := web.Spec{Run: run, Root: root, PHP: eight(t), Memory: "3G", Workers: 8, Sealed: &web.Sealed{ID: "c1",
		Names: []string{"copy.localhost"}, Port: "8088",
		Bounds: site.Bounds{Memory: 200 << 20, Program: 1 << 30, Processes: 40, CPU: time.Second, File: 5 << 20,
			Files: 512, Temp: 64 << 20, Disk: 30 << 20},
		Met: func(m wall.Met) {
			mu.Lock()
			defer mu.Unlock()
			met[m.Bound] = m
		}}}
	w, err := web.Start(s)
	require.NoError(t, err)
	defer w.Stop()
	for _, what := range []string{"cpu", "file", "files", "temp", "program", "memory", "processes", "disk"} {
		go func() { // its answer is not what is asked for: the program may have ended
			c := &http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: dial(w)}}
			if resp, err := c.Get("http://copy.localhost/?take=" + what); err == nil {
				resp.Body.Close()
			}
		}()
		require.Eventually(t, func() bool {
			mu.Lock()
			defer mu.Unlock()
			_, ok := met[what]
			return ok
		}, time.Minute, 20*time.Millisecond, what)
	}
	select {
	case <-w.Gone():
	case <-time.After(time.Minute):
		t.Fatal("a copy that holds too much goes on")
	}
	assert.True(t, w.Full())
	assert.Equal(t, []string{"cpu", "disk", "file", "files", "memory", "processes", "program", "temp"},
		slices.Sorted(maps.Keys(met)))
	assert.Equal(t, "200 MiB", met["memory"].Limit)
	assert.Regexp(t, `^its largest program, php-fpm8.2 with \d+ MiB, was ended$`, met["memory"].What)
	assert.Equal(t, "1s", met["cpu"].Limit)
	fi, err := os.Stat(filepath.Join(root, "one"))
	require.NoError(t, err)
	assert.LessOrEqual(t, fi.Size(), int64(5<<20))
	s.Sealed.Full = true
	_, err = web.Start(s)
	require.ErrorIs(t, err, web.ErrFull, "it is not started again")
	require.NoError(t, os.Remove(filepath.Join(root, "many0")))
	for _, name := range []string{"1", "2", "3", "4", "5", "6", "7", "8", "9"} {
		require.NoError(t, os.Remove(filepath.Join(root, "many"+name)))
	}
	again, err := web.Start(s)
	require.NoError(t, err, "until there is room")
	again.Stop()
}
