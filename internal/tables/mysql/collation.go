package mysql

import (
	"maps"
	"regexp"
	"slices"
	"strings"

	"alibi/internal/tables"
)

// Collations gives the collations that a schema names, each with the first thing that has it.
func Collations(s tables.Schema) map[string]string {
	out := map[string]string{}
	note := func(collation, what string) {
		if _, seen := out[collation]; !seen && collation != "" {
			out[collation] = what
		}
	}
	for _, t := range s.Tables {
		for _, c := range t.Columns {
			note(c.Collation, t.Name+"."+c.Name)
		}
		for _, c := range collatesIn(t.Create) {
			note(c, "table "+t.Name)
		}
	}
	for _, o := range s.After {
		for _, c := range collatesIn(o.SQL) {
			note(c, o.Kind+" "+o.Name)
		}
	}
	note(s.Settings["collation"], "the database")
	return out
}

// collateAt finds the words of a statement that name a collation.
func collateAt(words []word) (out []int) {
	for i := range words {
		if !strings.EqualFold(words[i].text, "COLLATE") {
			continue
		}
		at := i + 1
		if at < len(words) && words[at].text == "=" {
			at++
		}
		if at < len(words) && letter(words[at].text[0]) {
			out = append(out, at)
		}
	}
	return out
}

func collatesIn(sql string) (out []string) {
	words := split(sql)
	for _, i := range collateAt(words) {
		out = append(out, words[i].text)
	}
	return out
}

// Exchange gives the collations that a schema gets on a server that knows some, in place of its own: those that are not
// known there, and those that a person chose. missing are those for which there is none, each with what has it.
func Exchange(s tables.Schema, chosen map[string]string, known map[string]bool) (to, missing map[string]string) {
	to, missing = map[string]string{}, map[string]string{}
	for c, what := range Collations(s) {
		other := chosen[c]
		if other == "" && known[c] {
			continue
		}
		if other == "" {
			other, _ = Nearest(c, known)
		}
		if known[other] {
			to[c] = other
		} else {
			missing[c] = what
		}
	}
	return to, missing
}

// Recollate gives a schema with other collations in place of some. Texts stay the same bytes: both are of one
// character set.
func Recollate(s tables.Schema, to map[string]string) tables.Schema {
	if len(to) == 0 {
		return s
	}
	s.Tables, s.After, s.Settings = slices.Clone(s.Tables), slices.Clone(s.After), maps.Clone(s.Settings)
	for i, t := range s.Tables {
		s.Tables[i] = recollated(t, to)
	}
	for i := range s.After {
		s.After[i].SQL = recollate(s.After[i].SQL, to)
	}
	if c, other := to[s.Settings["collation"]]; other {
		s.Settings["collation"] = c
	}
	return s
}

func recollated(t tables.Table, to map[string]string) tables.Table {
	t.Create, t.Columns = recollate(t.Create, to), slices.Clone(t.Columns)
	columns := make([]column, len(t.Columns))
	for i, c := range t.Columns {
		if other, is := to[c.Collation]; is {
			t.Columns[i].Collation = other
		}
		columns[i] = newColumn(t.Columns[i])
	}
	own := t.Definition["collation"]
	for from, other := range to {
		if oneName(from) == own {
			own = other
			break
		}
	}
	t.Definition = define(t.Create, own, columns)
	return t
}

func recollate(sql string, to map[string]string) string {
	words := split(sql)
	for _, i := range collateAt(words) {
		if other, is := to[words[i].text]; is {
			words[i].text = other
		}
	}
	var b strings.Builder
	for _, w := range words {
		b.WriteString(w.text + w.tail)
	}
	return b.String()
}

// Defined gives a table with the definition of one that means the same; its next row gets the number that it would have
// got.
func Defined(t, as tables.Table) tables.Table {
	create := Definition(as)
	if next := counter.FindString(t.Create); next != "" {
		create = engine.ReplaceAllString(create, "$0"+next)
	}
	d := maps.Clone(as.Definition)
	delete(d, tables.Next)
	if next, has := t.Definition[tables.Next]; has {
		d[tables.Next] = next
	}
	t.Create, t.Columns, t.Definition = create, as.Columns, d
	return t
}

var engine = regexp.MustCompile(`\n\) ENGINE=\w+`)

// explicit names the collations in the statement that makes a table where it leaves them to the server: servers differ
// in what they take then, but for those of three bytes, which have two names.
func explicit(t tables.Table) string {
	words := split(t.Create)
	var column string
	var b strings.Builder
	for i, w := range words {
		if i > 0 && strings.Contains(words[i-1].tail, "\n") {
			column = unquoted(w.text)
		}
		b.WriteString(w.text)
		set, own := i > 1 && strings.EqualFold(words[i-1].text, "SET") && strings.EqualFold(words[i-2].text, "CHARACTER"), ""
		if c := t.Column(column); set && c >= 0 {
			own = t.Columns[c].Collation
		}
		if i > 1 && words[i-1].text == "=" && strings.EqualFold(words[i-2].text, "CHARSET") {
			set, own = true, t.Definition["collation"]
		}
		last := i+1 == len(words) || !strings.EqualFold(words[i+1].text, "COLLATE")
		if set && last && strings.HasPrefix(own, w.text+"_") && w.text != "utf8" {
			b.WriteString(" COLLATE " + own)
		}
		b.WriteString(w.tail)
	}
	return b.String()
}

// languages are how collations of MySQL since 8.0 shorten the names of languages that others write out.
var languages = map[string]string{
	"cs": "czech", "da": "danish", "de_pb": "german2", "eo": "esperanto", "es": "spanish", "es_trad": "spanish2",
	"et": "estonian", "hr": "croatian", "hu": "hungarian", "is": "icelandic", "la": "roman", "lt": "lithuanian",
	"lv": "latvian", "pl": "polish", "ro": "romanian", "sk": "slovak", "sl": "slovenian", "sv": "swedish",
	"tr": "turkish", "vi": "vietnamese",
}

// Nearest gives the collation of the same character set that comes nearest to another one, of those that a server
// knows, and whether it is the same by another name; "" where there is none. What tells capitals or accents apart is
// never exchanged for what does not: texts that differed would be equal, and two rows might have one key then.
// Source: "Supported Character Sets and Collations" of the MariaDB documentation, "Collation Naming Conventions" and
// "Unicode Character Sets" of the MySQL Reference Manual.
func Nearest(collation string, known map[string]bool) (to string, same bool) {
	charset, rest, ok := strings.Cut(collation, "_")
	if !ok {
		return "", false
	}
	sets := []string{charset}
	switch charset {
	case "utf8mb3":
		sets = []string{"utf8mb3", "utf8"}
	case "utf8":
		sets = []string{"utf8", "utf8mb3"}
	}
	for _, set := range sets[1:] {
		if c := set + "_" + rest; known[c] {
			return c, true
		}
	}
	for _, name := range nearNames(rest) {
		for _, set := range sets {
			if c := set + "_" + name; c != collation && known[c] {
				return c, false
			}
		}
	}
	return "", false
}

// nearNames gives what may come in place of a collation, the nearest first, all without their character set.
func nearNames(rest string) (out []string) {
	accents := strings.HasSuffix(rest, "_as_ci") || strings.HasSuffix(rest, "_as_cs")
	capitals := strings.HasSuffix(rest, "_cs")
	if strings.HasSuffix(rest, "bin") {
		return []string{"bin", "0900_bin"}
	}
	ends := map[bool]map[bool]string{false: {false: "_ai_ci", true: "_ai_cs"}, true: {false: "_as_ci", true: "_as_cs"}}
	end := ends[accents][capitals]
	for short, long := range languages {
		if strings.HasPrefix(rest, short+"_0900") || strings.HasPrefix(rest, long+"_") ||
			strings.HasPrefix(rest, "uca1400_"+long+"_") {
			out = append(out, "uca1400_"+long+end, short+"_0900"+end)
			if !accents && !capitals {
				out = append(out, long+"_ci")
			}
		}
	}
	out = append(out, "uca1400"+end, "0900"+end)
	switch {
	case accents || capitals:
		return append(out, "uca1400_as_cs", "0900_as_cs", "bin")
	default:
		return append(out, "unicode_520_ci", "unicode_ci")
	}
}
