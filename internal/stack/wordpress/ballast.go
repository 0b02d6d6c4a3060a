package wordpress

import (
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"alibi/internal/ballast"
	"alibi/internal/phpval"
	"alibi/internal/site"
	"alibi/internal/stack"
	"alibi/internal/tables"
)

// ballastDir is where made-up pictures stand.
const ballastDir = "wp-content/uploads/alibi-ballast"

// BallastFiles are the pictures of made-up media, by path.
func (Stack) BallastFiles(l ballast.Load) map[string][]byte {
	out := map[string][]byte{}
	for n := range l.Counts["media"] {
		out[path.Join(ballastDir, l.Slug("media", n)+".png")] = ballast.Picture(l.Rand("media", n))
	}
	return out
}

// BallastFolder is the folder of all made-up pictures.
func (Stack) BallastFolder() string { return ballastDir }

// Ballast says which rows come for made-up content, or which go for there to be
// none. In a network it is the main site's.
func (s Stack) Ballast(
	ctx context.Context,
	snap tables.Snapshot,
	f site.Facts,
	l ballast.Load,
	at time.Time,
) (func(tables.Table) stack.Cleanup, error) {
	if l.Remove {
		return noBallast(ctx, snap, f.Prefix)
	}
	if l.Counts["comments"] > 0 && l.Counts["posts"]+l.Counts["pages"] == 0 {
		return nil, fmt.Errorf("comments are made up under made-up posts: ask for some posts too")
	}
	if l.Counts["products"] > 0 && !hasProducts(f) {
		return nil, fmt.Errorf("this site has no products: no shop's plugin keeps any")
	}
	b := &bringing{
		data:    &data{ctx: ctx, snap: snap, prefix: f.Prefix},
		there:   map[string]int64{},
		groups:  map[[2]string]int64{},
		next:    map[string]int64{},
		authors: map[string]int64{},
		add:     map[string][]tables.Row{},
		counts:  map[int64]int64{},
		numbers: map[int64]int64{},
	}
	if err := b.look(); err != nil {
		return nil, err
	}
	for _, t := range []struct{ table, column string }{{"users", "ID"}, {"usermeta", "umeta_id"}} {
		if err := b.each(t.table, func(r row) { b.next[t.table] = max(b.next[t.table], r.number(t.column)) }); err !=
			nil {
			return nil, err
		}
	}
	for n := range l.Counts["users"] {
		login := l.Slug("users", n)
		if _, is := b.authors[login]; !is {
			b.user(stack.AccountWish{Login: login, Mail: login + "@ballast.example", Hash: "!", At: at},
				string(phpval.Map("subscriber", true).Marshal()))
		}
	}
	for n := range l.Counts["terms"] {
		b.term(ballastTerm(l, n))
	}
	items := ballastItems(l, at)
	for i := range items {
		b.number(&items[i])
	}
	for _, it := range items {
		b.item(it)
	}
	b.countAdded()
	return b.cleanup, nil
}

func hasProducts(f site.Facts) bool {
	for _, c := range f.Contents {
		if strings.HasPrefix(c.Kind, "product") {
			return true
		}
	}
	return false
}

func ballastTerm(l ballast.Load, n int) inCategory {
	return inCategory{
		Domain: "category",
		Slug:   l.Slug("terms", n),
		Name:   strings.TrimSuffix(ballast.Sentence(l.Rand("terms", n)), "."),
	}
}

// ballastItems are the items as a feed would have them.
func ballastItems(l ballast.Load, at time.Time) (out []inItem) {
	stamp := func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05") }
	for _, k := range []struct{ kind, typ string }{{"media", "attachment"}, {"posts", "post"}, {"pages", "page"},
		{"products", "product"}} {
		for n := range l.Counts[k.kind] {
			r := l.Rand(k.kind, n)
			when := stamp(at.Add(-time.Duration(r.IntN(365*24*60)) * time.Minute))
			it := inItem{
				Title:    ballast.Title(r),
				GUID:     l.ID(k.kind, n),
				ID:       int64(len(out) + 1),
				Date:     when,
				DateGMT:  when,
				Comments: "open",
				Pings:    "closed",
				Slug:     l.Slug(k.kind, n),
				Status:   "publish",
				Type:     k.typ,
			}
			switch k.kind {
			case "media":
				it.Status = "inherit"
				it.Meta = []inMeta{{"_wp_attached_file", path.Join(path.Base(ballastDir), l.Slug("media", n)+".png")}}
			case "products":
				it.Content = ballast.Text(r, 1)
				price := fmt.Sprintf("%d.%02d", 1+r.IntN(90), r.IntN(100))
				it.Meta = []inMeta{{"_price", price}, {"_regular_price", price}}
			default:
				it.Content = ballast.Text(r, 2+r.IntN(6))
			}
			if terms := l.Counts["terms"]; terms > 0 && k.kind == "posts" {
				it.Categories = []inCategory{ballastTerm(l, n%terms)}
			}
			if m := l.Counts["media"]; m > 0 && k.kind == "posts" {
				it.Meta = append(it.Meta, inMeta{"_thumbnail_id", fmt.Sprint(1 + n%m)})
			}
			out = append(out, it)
		}
	}
	var under []int // items that may have comments
	for i, it := range out {
		if it.Type == "post" || it.Type == "page" && l.Counts["posts"] == 0 {
			under = append(under, i)
		}
	}
	for n := range l.Counts["comments"] {
		r := l.Rand("comments", n)
		it := &out[under[n%len(under)]]
		it.Replies = append(
			it.Replies,
			inComment{
				ID:       int64(n + 1),
				Author:   ballast.Person(r),
				Mail:     ballast.Prefix + fmt.Sprint(n) + "@ballast.example",
				Date:     it.Date,
				DateGMT:  it.DateGMT,
				Text:     ballast.Sentence(r),
				Approved: "1",
				Type:     "comment",
			},
		)
	}
	return out
}

// noBallast takes out what was made up, of whatever seed.
func noBallast(ctx context.Context, snap tables.Snapshot, prefix string) (func(tables.Table) stack.Cleanup, error) {
	d := &data{ctx: ctx, snap: snap, prefix: prefix}
	posts, comments, terms, groups, users := ids{}, ids{}, ids{}, ids{}, ids{}
	for _, rd := range []struct {
		table string
		give  func(row)
	}{
		{"posts", func(r row) {
			if strings.HasPrefix(r.text("guid"), ballast.Mark) {
				posts[r.number("ID")] = true
			}
		}},
		{"comments", func(r row) {
			if posts[r.number("comment_post_ID")] {
				comments[r.number("comment_ID")] = true
			}
		}},
		{"terms", func(r row) {
			if strings.HasPrefix(r.text("slug"), ballast.Prefix+"term-") {
				terms[r.number("term_id")] = true
			}
		}},
		{"term_taxonomy", func(r row) {
			if terms[r.number("term_id")] {
				groups[r.number("term_taxonomy_id")] = true
			}
		}},
		{"users", func(r row) {
			if strings.HasPrefix(r.text("user_login"), ballast.Prefix+"user-") {
				users[r.number("ID")] = true
			}
		}},
	} {
		if err := d.each(rd.table, rd.give); err != nil {
			return nil, err
		}
	}
	gone := map[thing]ids{anItem: posts, aComment: comments, aTerm: groups, aName: terms, anAccount: users}
	return func(t tables.Table) stack.Cleanup {
		name, _ := strings.CutPrefix(t.Name, prefix)
		if name == "term_relationships" {
			return stack.Cleanup{Row: func(r tables.Row) (tables.Row, bool) {
				return r, !posts[row{t, r}.number("object_id")] && !groups[row{t, r}.number(grouped)]
			}}
		}
		rows := rowsOf[name]
		those := gone[rows.of]
		if len(those) == 0 {
			return stack.Cleanup{}
		}
		return stack.Cleanup{
			Row: func(r tables.Row) (tables.Row, bool) { return r, !those[row{t, r}.number(rows.by)] },
		}
	}, nil
}
