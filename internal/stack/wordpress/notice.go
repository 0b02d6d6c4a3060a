package wordpress

import (
	_ "embed"
	"fmt"
	"html"
	"net/url"
	"strings"

	"alibi/internal/site"
	"alibi/internal/stack/phpsrc"
)

// MaintenanceFile is what has the CMS show visitors a notice instead of its
// pages (wp_is_maintenance_mode).
const MaintenanceFile = ".maintenance"

// Notice has the CMS show a front by its own means for maintenance: a file that
// switches it on, and the page that it then shows. The file says that
// maintenance has begun just now whenever it is asked, so that it does not end
// by itself.
func (Stack) Notice(f site.Front) map[string][]byte {
	if f.Kind == site.FrontMoved && f.Address != "" {
		return map[string][]byte{MaintenanceFile: []byte(strings.NewReplacer("/*LOOK*/", look(f.Pass), "/*TO*/''",
			phpsrc.Literal(f.Address), "/*FROM*/''", phpsrc.Literal(f.Path)).Replace(sendOnPHP))}
	}
	if f.Kind == site.FrontMoved {
		return map[string][]byte{MaintenanceFile: []byte(handsOn(f))}
	}
	mark := "/* notice put here by alibi */"
	contact := ""
	if f.Contact != "" {
		contact = `<p>` + html.EscapeString(f.Contact) + `</p>`
		if href := contactAddress(f.Contact); href != "" {
			contact = fmt.Sprintf(`<p><a href="%s">%s</a></p>`, html.EscapeString(href), html.EscapeString(f.Contact))
		}
	}
	// Nothing of what people write may be taken for code.
	page := strings.ReplaceAll(fmt.Sprintf(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="robots" content="noindex">
<meta name="viewport" content="width=device-width">
<title>%[1]s</title>
<style>body{font:18px/1.5 sans-serif;max-width:34em;margin:18vh auto;padding:0 1em;color:#222}</style></head>
<body><h1>%[1]s</h1><p>%[2]s</p>%[3]s</body></html>
`, html.EscapeString(f.Heading()), html.EscapeString(f.Sentence()), contact), "<?", "&lt;?")
	// The CMS reads the file a second time when a request ends: one that saw this notice is not handed on then.
	files := map[string][]byte{MaintenanceFile: []byte("<?php " + mark + "\n$upgrading = time();\n" +
		"defined( 'ALIBI_NOTICED' ) || define( 'ALIBI_NOTICED', true );\n" + look(f.Pass))}
	if f.Kind == site.FrontMaintenance { // the CMS has a page of its own for that, or the site has
		return files
	}
	files["wp-content/maintenance.php"] = []byte(
		"<?php " + mark + "\nhttp_response_code(503);\nheader('Retry-After: 600');\nheader('Content-Type: text/html; " +
			"charset=utf-8');\n?>" + page,
	)
	return files
}

//go:embed sendon.php
var sendOnPHP string

//go:embed handon.php
var handOnPHP string

// handsOn hands visitors on to where the site stands; where that does not answer they see the CMS's own page of
// maintenance.
func handsOn(f site.Front) string {
	var to []string
	for _, a := range f.To {
		to = append(to, phpsrc.Literal(a))
	}
	return strings.NewReplacer("/*LOOK*/", look(f.Pass), "/*TO*/array()", "array( "+strings.Join(to, ", ")+" )",
		"/*PORT*/443", "(int) "+phpsrc.Literal(f.Port), "/*TLS*/true", fmt.Sprint(f.TLS)).Replace(handOnPHP)
}

// look lets Alibi itself past the notice, by a word whose digest stands here.
func look(digest string) string {
	if digest == "" {
		return ""
	}
	return "if ( isset( $_SERVER['HTTP_ALIBI_LOOK'] ) && hash( 'sha256', $_SERVER['HTTP_ALIBI_LOOK'] ) === '" + digest +
		"' ) {\n\t$upgrading = 0;\n}\n"
}

// contactAddress makes a link of a mail or web address, and "" of anything else.
func contactAddress(c string) string {
	if u, err := url.Parse(c); err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "" {
		return u.String()
	}
	if !strings.ContainsAny(c, " <>\"'/\\:") && strings.Count(c, "@") == 1 {
		return "mailto:" + c
	}
	return ""
}
