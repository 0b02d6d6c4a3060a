package wordpress

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"alibi/internal/phpval"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// Accounts lists the accounts, administrators first.
func (s Stack) Accounts(ctx context.Context, snap tables.Snapshot, prefix string) ([]stack.Account, error) {
	d := &data{ctx: ctx, snap: snap, prefix: prefix}
	roles := map[int64][]string{}
	if err := d.each("usermeta", func(r row) {
		if r.text("meta_key") == prefix+"capabilities" {
			roles[r.number("user_id")] = rolesIn(r.text("meta_value"))
		}
	}); err != nil {
		return nil, err
	}
	var out []stack.Account
	if err := d.each("users", func(r row) {
		out = append(out, stack.Account{Login: r.text("user_login"), Name: r.text("display_name"), Mail: r.text("user_email"), Roles: roles[r.number("ID")]})
	}); err != nil {
		return nil, err
	}
	rank := func(a stack.Account) int {
		if slices.Contains(a.Roles, "administrator") {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(out, func(a, b stack.Account) int { return cmp.Compare(rank(a), rank(b)) })
	return out, nil
}

func rolesIn(value string) (out []string) {
	v, err := phpval.Parse([]byte(value))
	if err != nil {
		return nil
	}
	for _, it := range v.Items {
		if it.Val.Text() == "1" {
			out = append(out, it.Key.Text())
		}
	}
	return out
}

// Account says which rows make an account what is wished.
func (Stack) Account(ctx context.Context, snap tables.Snapshot, prefix string, w stack.AccountWish) (func(tables.Table) stack.Cleanup, error) {
	d := &data{ctx: ctx, snap: snap, prefix: prefix}
	known := map[string]bool{}
	var id, last, lastMeta int64
	if err := d.each("options", func(r row) {
		if r.text("option_name") == prefix+"user_roles" {
			v, _ := phpval.Parse([]byte(r.text("option_value")))
			for _, it := range v.Items {
				known[it.Key.Text()] = true
			}
		}
	}); err != nil {
		return nil, err
	}
	if len(known) == 0 { // until it was visited once a site has only the core's
		for _, role := range []string{"administrator", "editor", "author", "contributor", "subscriber"} {
			known[role] = true
		}
	}
	if err := d.each("users", func(r row) {
		last = max(last, r.number("ID"))
		if r.text("user_login") == w.Login {
			id = r.number("ID")
		}
	}); err != nil {
		return nil, err
	}
	rights := map[int64]bool{} // who has any
	if err := d.each("usermeta", func(r row) {
		lastMeta = max(lastMeta, r.number("umeta_id"))
		if r.text("meta_key") == prefix+"capabilities" {
			rights[r.number("user_id")] = true
		}
	}); err != nil {
		return nil, err
	}
	switch {
	case w.Role != "" && !known[w.Role]:
		return nil, fmt.Errorf("the site has no role %q; it has %s", w.Role, strings.Join(slices.Sorted(maps.Keys(known)), ", "))
	case id == 0 && (w.Hash == "" || w.Role == ""):
		return nil, fmt.Errorf("the site has no account %q: a new one needs a role and a password", w.Login)
	}
	capabilities := string(phpval.Map(w.Role, true).Marshal())
	b := &bringing{data: d, next: map[string]int64{"users": last, "usermeta": lastMeta}, add: map[string][]tables.Row{}}
	if id == 0 {
		b.user(w, capabilities)
		return func(t tables.Table) stack.Cleanup { return stack.Cleanup{Add: b.add[t.Name]} }, nil
	}
	if w.Role != "" && !rights[id] {
		b.put("usermeta", map[string]string{"umeta_id": str(b.free("usermeta")), "user_id": str(id), "meta_key": prefix + "capabilities", "meta_value": capabilities})
	}
	return func(t tables.Table) stack.Cleanup {
		switch t.Name {
		case prefix + "users":
			return stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) {
				if (row{t, r}).number("ID") != id {
					return r, true
				}
				if w.Hash != "" {
					r = changed(t, changed(t, r, "user_pass", w.Hash), "user_activation_key", "")
				}
				if w.Mail != "" {
					r = changed(t, r, "user_email", w.Mail)
				}
				return r, true
			}}
		case prefix + "usermeta":
			return stack.Cleanup{Add: b.add[t.Name], Row: func(r tables.Row) (tables.Row, bool) {
				x := row{t, r}
				if x.number("user_id") == id && x.text("meta_key") == prefix+"capabilities" && w.Role != "" {
					r = changed(t, r, "meta_value", capabilities)
				}
				return r, true
			}}
		}
		return stack.Cleanup{}
	}, nil
}

// user adds an account.
func (b *bringing) user(w stack.AccountWish, capabilities string) {
	id := b.free("users")
	b.put("users", map[string]string{"ID": str(id), "user_login": w.Login, "user_pass": w.Hash, "user_nicename": site.Slug(w.Login), "user_email": w.Mail, "user_registered": w.At.UTC().Format("2006-01-02 15:04:05"), "display_name": w.Login})
	for _, m := range [][2]string{{"nickname", w.Login}, {b.prefix + "capabilities", capabilities}} {
		b.put("usermeta", map[string]string{"umeta_id": str(b.free("usermeta")), "user_id": str(id), "meta_key": m[0], "meta_value": m[1]})
	}
}
