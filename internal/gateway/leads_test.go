package gateway

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWhatAPageLeadsTo(t *testing.T) {
	got := leads(`<!doctype html><head><title>Ferries &amp; tides</title>
<link rel="stylesheet" href="/theme/style.css?ver=6&amp;x=1"><link rel="alternate" href="/feed/">
<link rel='https://api.w.org/' href='/api/'><script src="https://cdn.example/x.js"></script>
<script src="//pier.example/way/app.js"></script></head>
<body><svg><title>a drawing</title></svg><a href="https://pier.example/way/">here</a> <a href="#top">top</a>
<a href='https://pier.example/way/tides/'>one</a> <a class=x href=tides/#today>the same</a>
<a href="?p=5&amp;lang=en">by number</a> <a rel="Nofollow external" href="/way/?basket=add">add</a>
<a href="https://pier.example/elsewhere/">another site's</a> <a href="http://pier.example/way/x">plain</a>
<a href="https://pier.example.org/way/y">else</a> <a href="mailto:a@pier.example">mail</a> <a href="%zz">bad</a>
<a href="/way/up/boat.PNG"><img src="/way/up/boat-1.png"></a> <a href="/way/old.php">old</a>`,
		"https://pier.example/way")
	assert.Equal(t, lead{
		title: "Ferries & tides",
		pages: []string{"https://pier.example/way/tides/", "https://pier.example/way/?p=5&lang=en",
			"https://pier.example/way/old.php"},
		files: []string{"https://pier.example/way/app.js", "https://pier.example/way/up/boat.PNG",
			"https://pier.example/way/up/boat-1.png"},
	}, got, "the style lies outside of the site's own folder")
	assert.Zero(t, leads("no page at all", "https://pier.example"))
	assert.Equal(t, []string{"http://pier.localhost:7700/theme/style.css"},
		leads(`<link rel="stylesheet" href="/theme/style.css">`, "http://pier.localhost:7700").files)
}
