package wordpress

import (
	"strings"

	"alibi/internal/scrub"
	"alibi/internal/tables"
)

// columnsOf are the columns of the core's tables that hold personal data.
var columnsOf = map[string]map[string]scrub.Kind{
	"users": {
		"user_login":          scrub.Login,
		"user_nicename":       scrub.Login,
		"user_pass":           scrub.Lock,
		"user_email":          scrub.Email,
		"user_url":            scrub.Blank,
		"user_activation_key": scrub.Blank,
		"display_name":        scrub.Name,
	},
	"comments": {
		"comment_author":       scrub.Name,
		"comment_author_email": scrub.Email,
		"comment_author_url":   scrub.Blank,
		"comment_author_IP":    scrub.IP,
		"comment_agent":        scrub.Blank,
	},
	"signups": {
		"user_login":     scrub.Login,
		"user_email":     scrub.Email,
		"activation_key": scrub.Blank,
		"meta":           scrub.Blank,
	},
	"registration_log": {"email": scrub.Email, "IP": scrub.IP},
}

// keysOf are the names under which the core and shops keep personal data, each
// after "_", "billing_", "shipping_" or nothing.
var keysOf = map[string]scrub.Kind{
	"first_name": scrub.Name, "last_name": scrub.Name, "nickname": scrub.Name, "company": scrub.Name,
	"customer_name": scrub.Name,
	"description":   scrub.Blank, "session_tokens": scrub.Blank, "application_passwords": scrub.Blank,
	"community-events-location": scrub.Blank, "customer_user_agent": scrub.Blank,
	"email": scrub.Email, "admin_email": scrub.Email, "new_admin_email": scrub.Email, "customer_email": scrub.Email,
	"mailserver_login": scrub.Email,
	"phone":            scrub.Phone, "mobile": scrub.Phone, "address_1": scrub.Street, "address_2": scrub.Street,
	"city": scrub.City, "postcode": scrub.Postcode, "customer_ip_address": scrub.IP,
}

func kindOfKey(key string) scrub.Kind {
	key = strings.TrimPrefix(key, "_")
	for _, p := range []string{"billing_", "shipping_"} {
		key = strings.TrimPrefix(key, p)
	}
	return keysOf[key]
}

// named are tables of names with values: the columns of both.
var named = map[string][2]string{
	"usermeta":    {"meta_key", "meta_value"},
	"postmeta":    {"meta_key", "meta_value"},
	"commentmeta": {"meta_key", "meta_value"},
	"options":     {"option_name", "option_value"},
	"sitemeta":    {"meta_key", "meta_value"},
}

// Personal knows the core's tables and the names under which shops keep buyers;
// in all other tables columns are taken for what they are called.
func (Stack) Personal(prefix string, own map[string]scrub.Kind) scrub.Rules {
	byName := scrub.Columns(own)
	core := func(t tables.Table) string {
		rest, _ := strings.CutPrefix(t.Name, prefix)
		rest = strings.TrimLeft(rest, "0123456789_")
		if _, is := columnsOf[rest]; is && isTable(t.Name, prefix, rest) {
			return rest
		}
		if _, is := named[rest]; is && isTable(t.Name, prefix, rest) {
			return rest
		}
		return ""
	}
	return scrub.Rules{
		Table: func(t tables.Table) bool { return core(t) != "" || byName.Table(t) },
		Row: func(t tables.Table, r tables.Row) []scrub.Kind {
			name := core(t)
			if name == "" {
				return byName.Row(t, r)
			}
			out := make([]scrub.Kind, len(t.Columns))
			if k, has := named[name]; has {
				i, v := t.Column(k[0]), t.Column(k[1])
				if i < 0 || v < 0 {
					return nil
				}
				out[v] = kindOfKey(r.Values[i].String())
			}
			for i, c := range t.Columns {
				if k := columnsOf[name][c.Name]; k != "" {
					out[i] = k
				}
				if k := own[t.Name+"."+c.Name]; k != "" {
					out[i] = k
				}
			}
			return out
		},
	}
}
