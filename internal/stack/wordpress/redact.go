package wordpress

import (
	"regexp"
	"slices"
	"strings"

	"alibi/internal/stack"
	"alibi/internal/tables"
)

// secretName is how settings and constants are called that hold what nobody else
// may know.
var secretName = regexp.MustCompile(
	`(?i)passw(or)?d|_pass$|secret|api_?key|private_?key|access_?key|` +
		`(^|_)(auth|secure_auth|logged_in|nonce)_(key|salt)$|token|licen[cs]e_?key|_dsn$`,
)

// Redact takes passwords, their digests, keys and sessions out of a site: what
// remains can be given away without giving access.
func (Stack) Redact(prefix string) stack.Redaction {
	return stack.Redaction{
		Has: func(p string) bool { return p == "wp-config.php" },
		File: func(_ string, text []byte) []byte {
			c := readConfig(string(text), "wp-config.php")
			var names []string
			for n := range c.Constants {
				if secretName.MatchString(n) {
					names = append(names, n)
				}
			}
			slices.Sort(names)
			for _, n := range names {
				c = readConfig(c.With(n, "''"), "wp-config.php")
			}
			return []byte(c.Src)
		},
		Row: func(t tables.Table, r tables.Row) tables.Row {
			x := row{t, r}
			switch {
			case isTable(t.Name, prefix, "users"):
				return with(t, with(t, r, "user_pass", ""), "user_activation_key", "")
			case isTable(t.Name, prefix, "usermeta") &&
				(x.text("meta_key") == "session_tokens" || x.text("meta_key") == "_application_passwords"):
				return with(t, r, "meta_value", "")
			case isTable(t.Name, prefix, "options") &&
				secretName.MatchString(strings.TrimPrefix(x.text("option_name"), prefix)):
				return with(t, r, "option_value", "")
			case isTable(t.Name, prefix, "posts") && x.text("post_password") != "":
				return with(t, r, "post_password", "")
			}
			return r
		},
		Same: func(t tables.Table, a, b tables.Row) bool {
			for _, c := range []string{"user_login", "user_id", "meta_key", "option_name", "post_name", "post_type"} {
				if t.Column(c) >= 0 && (row{t, a}).text(c) != (row{t, b}).text(c) {
					return false
				}
			}
			return true
		},
	}
}
