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
		out = append(out, stack.Account{Login: r.text("user_login"), Name: r.text("display_name"),
			Mail: r.text("user_email"), Roles: roles[r.number("ID")]})
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

// accounts is what has to be known of a site's accounts to change one.
type accounts struct {
	roles          map[string]bool
	id             int64 // of the one that is meant; 0: there is none
	last, lastMeta int64
	rights         map[int64]bool // who has any
}

func (d *data) accounts(login string) (*accounts, error) {
	x := &accounts{roles: map[string]bool{}, rights: map[int64]bool{}}
	for _, rd := range []struct {
		table string
		give  func(row)
	}{
		{"options", func(r row) {
			if r.text("option_name") == d.prefix+"user_roles" {
				v, _ := phpval.Parse([]byte(r.text("option_value"))) // one that can't be read names none
				for _, it := range v.Items {
					x.roles[it.Key.Text()] = true
				}
			}
		}},
		{"users", func(r row) {
			x.last = max(x.last, r.number("ID"))
			if r.text("user_login") == login {
				x.id = r.number("ID")
			}
		}},
		{"usermeta", func(r row) {
			x.lastMeta = max(x.lastMeta, r.number("umeta_id"))
			if r.text("meta_key") == d.prefix+"capabilities" {
				x.rights[r.number("user_id")] = true
			}
		}},
	} {
		if err := d.each(rd.table, rd.give); err != nil {
			return nil, err
		}
	}
	if len(x.roles) == 0 { // until it was visited once a site has only the core's
		for _, role := range []string{"administrator", "editor", "author", "contributor", "subscriber"} {
			x.roles[role] = true
		}
	}
	return x, nil
}

// Account says which rows make an account what is wished.
func (Stack) Account(
	ctx context.Context,
	snap tables.Snapshot,
	prefix string,
	w stack.AccountWish,
) (func(tables.Table) stack.Cleanup, error) {
	d := &data{ctx: ctx, snap: snap, prefix: prefix}
	is, err := d.accounts(w.Login)
	switch {
	case err != nil:
		return nil, err
	case w.Role != "" && !is.roles[w.Role]:
		return nil, fmt.Errorf("the site has no role %q; it has %s", w.Role,
			strings.Join(slices.Sorted(maps.Keys(is.roles)), ", "))
	case is.id == 0 && (w.Hash == "" || w.Role == ""):
		return nil, fmt.Errorf("the site has no account %q: a new one needs a role and a password", w.Login)
	}
	capabilities := string(phpval.Map(w.Role, true).Marshal())
	b := &bringing{
		data: d,
		next: map[string]int64{"users": is.last, "usermeta": is.lastMeta},
		add:  map[string][]tables.Row{},
	}
	if is.id == 0 {
		b.user(w, capabilities)
		return func(t tables.Table) stack.Cleanup { return stack.Cleanup{Add: b.add[t.Name]} }, nil
	}
	if w.Role != "" && !is.rights[is.id] {
		b.put(
			"usermeta",
			map[string]string{
				"umeta_id":   str(b.free("usermeta")),
				"user_id":    str(is.id),
				"meta_key":   prefix + "capabilities",
				"meta_value": capabilities,
			},
		)
	}
	return func(t tables.Table) stack.Cleanup {
		switch t.Name {
		case prefix + "users":
			return stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) {
				if (row{t, r}).number("ID") != is.id {
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
				if x.number("user_id") == is.id && x.text("meta_key") == prefix+"capabilities" && w.Role != "" {
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
	b.put(
		"users",
		map[string]string{
			"ID":              str(id),
			"user_login":      w.Login,
			"user_pass":       w.Hash,
			"user_nicename":   site.Slug(w.Login),
			"user_email":      w.Mail,
			"user_registered": w.At.UTC().Format("2006-01-02 15:04:05"),
			"display_name":    w.Login,
		},
	)
	for _, m := range [][2]string{{"nickname", w.Login}, {b.prefix + "capabilities", capabilities}} {
		b.put(
			"usermeta",
			map[string]string{
				"umeta_id":   str(b.free("usermeta")),
				"user_id":    str(id),
				"meta_key":   m[0],
				"meta_value": m[1],
			},
		)
	}
}
