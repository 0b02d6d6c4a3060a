package mysql

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"alibi/internal/tables"
)

var (
	codeComment = regexp.MustCompile(`/\*!\d* ?(.*?) ?\*/`)
	charsets    = regexp.MustCompile(`(?i) (CHARACTER SET|COLLATE) \w+`)
	widths      = regexp.MustCompile(`(?i)\b(tinyint|smallint|mediumint|int|bigint)\(\d+\)`)
	nowCall     = regexp.MustCompile(`(?i)\bcurrent_timestamp(\(\))?`)
	numeral     = regexp.MustCompile(`DEFAULT '(-?\d+(?:\.\d+)?)'`)
	option      = regexp.MustCompile(`([A-Z][A-Z_ ]*[A-Z])=('(?:[^'\\]|\\.|'')*'|\([^)]*\)|\S+)`)
)

// define takes the statement that makes a table apart. Each line of it is a column, a key or a
// constraint, as SHOW CREATE TABLE writes it. What servers of different makes write differently
// and mean the same is written in one way.
func define(create, collation string, columns []column) tables.Definition {
	d := tables.Definition{}
	_, body, _ := strings.Cut(create, "(\n")
	lines := strings.Split(body, "\n")
	end := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, ")") })
	if end < 0 {
		return tables.Definition{tables.Whole: create}
	}
	last := ""
	for _, line := range lines[:end] {
		part, text := defineLine(strings.TrimSuffix(strings.TrimSpace(line), ","))
		d[part] = text
		if name, is := strings.CutPrefix(part, "column "); is {
			if i := slices.IndexFunc(columns, func(c column) bool { return c.Name == name }); i >= 0 {
				if columns[i].Collation != "" {
					d[part] += " collate " + oneName(columns[i].Collation)
				}
			}
			d[tables.Place(part)] = "after " + last
			if last == "" {
				d[tables.Place(part)] = "first"
			}
			last = name
		}
	}
	rest := codeComment.ReplaceAllString(strings.Join(lines[end:], " ")[1:], "$1")
	for _, m := range option.FindAllStringSubmatch(rest, -1) {
		switch key := strings.TrimPrefix(strings.ToLower(m[1]), "default "); key {
		case "charset", "collate", "page_checksum":
		case "auto_increment":
			d[tables.Next] = m[2]
		default:
			d[key] = m[2]
		}
	}
	if i := strings.Index(rest, "PARTITION BY"); i >= 0 {
		d["partitions"] = strings.Join(strings.Fields(rest[i:]), " ")
	}
	d["collation"] = oneName(collation)
	return d
}

// defineLine gives what a line is about, and what it says of it.
func defineLine(line string) (part, text string) {
	line = codeComment.ReplaceAllString(line, "$1")
	words := split(line)
	switch first := strings.ToUpper(words[0].text); {
	case strings.HasPrefix(first, "`"):
		return "column " + unquoted(words[0].text), columnText(strings.TrimSpace(line[len(words[0].text):]))
	case first == "PRIMARY":
		return "primary key", keyText(line)
	case first == "CONSTRAINT" && len(words) > 2:
		kind := "check"
		if strings.EqualFold(words[2].text, "FOREIGN") {
			kind = "foreign key"
		}
		return kind + " " + unquoted(words[1].text),
			strings.TrimSpace(line[strings.Index(line, words[1].text)+len(words[1].text):])
	default: // [UNIQUE | FULLTEXT | SPATIAL] KEY `name` (...)
		for _, w := range words {
			if strings.HasPrefix(w.text, "`") {
				kind := strings.TrimSuffix(strings.TrimSpace(line[:strings.Index(line, w.text)]), "KEY")
				at := strings.Index(line, w.text) + len(w.text)
				return "index " + unquoted(w.text), strings.TrimSpace(kind + keyText(line[at:]))
			}
		}
	}
	return line, ""
}

// columnText writes a column's type and what else is said of it in one way.
func columnText(s string) string {
	s = charsets.ReplaceAllString(s, "")
	if !strings.Contains(strings.ToLower(s), "zerofill") {
		s = widths.ReplaceAllString(s, "$1")
	}
	s = nowCall.ReplaceAllString(s, "CURRENT_TIMESTAMP")
	s = numeral.ReplaceAllString(s, "DEFAULT $1")
	if !strings.Contains(s, "NOT NULL") {
		s = strings.ReplaceAll(strings.ReplaceAll(s, " DEFAULT NULL", ""), " NULL", "")
	}
	return s
}

// keyText writes a key's columns in one way.
func keyText(s string) string {
	s = strings.TrimSpace(strings.TrimPrefix(s, "PRIMARY KEY"))
	return strings.ReplaceAll(strings.ReplaceAll(s, " USING BTREE", ""), "`", "")
}

// oneName writes names of the same character set in one way.
func oneName(collation string) string { return strings.Replace(collation, "utf8mb3", "utf8", 1) }

func unquoted(s string) string {
	if len(s) < 2 || s[0] != '`' {
		return s
	}
	return strings.ReplaceAll(s[1:len(s)-1], "``", "`")
}

// reaching are storage engines whose tables are elsewhere.
var reaching = regexp.MustCompile(`(?i)\bENGINE=(FEDERATED|CONNECT|SPIDER|MRG_MyISAM|MERGE|S3)\b`)

// namedIn gives the databases of a list that a statement works with: those that stand before a dot. A
// name that also stands alone in the statement is one of a table or an alias there.
func namedIn(sql string, databases []string) (out []string) {
	words := split(sql)
	dotted := func(i int) bool { return i >= 0 && i < len(words) && words[i].text == "." }
	alone := map[string]bool{}
	for i, w := range words {
		if !dotted(i-1) && !dotted(i+1) {
			alone[unquoted(w.text)] = true
		}
	}
	for i := range words {
		n := unquoted(words[i].text)
		if !dotted(i+1) || dotted(i-1) || !slices.Contains(databases, n) || slices.Contains(out, n) {
			continue
		}
		if !alone[n] || dotted(i+3) {
			out = append(out, n)
		}
	}
	return out
}

// Outside names what of the database works with another one.
func (s *snapshot) Outside(ctx context.Context, own, others []string) (out []string, err error) {
	var seen []map[string]string
	var may []grant
	err = s.short(ctx, func(c conn) error {
		if seen, err = records(ctx, c, "SELECT SCHEMA_NAME AS N FROM information_schema.SCHEMATA"); err == nil {
			may, err = grants(ctx, c)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	own = append(slices.Clone(own), s.database)
	all := slices.Clone(others)
	for _, r := range seen {
		all = append(all, r["N"])
	}
	all = slices.DeleteFunc(all, func(n string) bool { return slices.Contains(own, n) || n == "" })
	say := func(what, sql string) {
		for _, n := range namedIn(sql, all) {
			out = append(out, fmt.Sprintf("%s works with the database %s", what, n))
		}
	}
	for _, t := range s.Tables {
		say("table "+t.Name, t.Create)
		if m := reaching.FindStringSubmatch(t.Create); m != nil {
			out = append(out, fmt.Sprintf("table %s is kept elsewhere: its engine is %s", t.Name, m[1]))
		}
	}
	for _, o := range s.After {
		say(o.Kind+" "+o.Name, o.SQL)
	}
	for _, g := range may {
		inside := slices.ContainsFunc(own, func(n string) bool { return strings.HasPrefix(g.on, name(n)+".") })
		if g.what != "USAGE" && !inside {
			out = append(out, fmt.Sprintf("the account may do %s on %s", g.what, g.on))
		}
	}
	return out, nil
}

// grant is what an account may do, and on what.
type grant struct{ what, on string }

// grants gives what the connection's account may do.
func grants(ctx context.Context, db queryer) (out []grant, err error) {
	rows, err := db.QueryContext(ctx, "SHOW GRANTS")
	if err != nil {
		return nil, explain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var g string
		if err := rows.Scan(&g); err != nil {
			return nil, err
		}
		what, on, ok := strings.Cut(strings.TrimPrefix(g, "GRANT "), " ON ")
		on, _, _ = strings.Cut(on, " TO ")
		if ok {
			out = append(out, grant{what, strings.ReplaceAll(strings.ReplaceAll(on, `\_`, "_"), `\%`, "%")})
		}
	}
	return out, explain(rows.Err())
}
