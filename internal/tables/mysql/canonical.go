package mysql

import "strings"

// word is a piece of a statement: white space and comments belong to the word
// before them.
type word struct {
	text string // without what follows
	tail string // white space and comments after it
}

// split takes a statement apart as far as names are to be told from strings.
func split(sql string) []word {
	var out []word
	for i := 0; i < len(sql); {
		lo := i
		switch c := sql[i]; {
		case c == '\'' || c == '"' || c == '`':
			for i++; i < len(sql); i++ {
				if sql[i] == '\\' && c != '`' {
					i++
				} else if sql[i] == c {
					if i+1 < len(sql) && sql[i+1] == c {
						i++
						continue
					}
					break
				}
			}
			i = min(i+1, len(sql))
		case letter(c):
			for i < len(sql) && letter(sql[i]) {
				i++
			}
		default:
			i++
		}
		w := word{text: sql[lo:i]}
		lo = i
		i = blank(sql, i)
		w.tail = sql[lo:i]
		out = append(out, w)
	}
	return out
}

func letter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '$' || c >= 0x80
}

// blank skips white space and comments, but not those that hold code.
func blank(sql string, i int) int {
	for i < len(sql) {
		rest := sql[i:]
		end := -1
		switch {
		case strings.IndexByte(" \t\r\n", sql[i]) >= 0:
			i++
			continue
		case strings.HasPrefix(rest, "-- "), strings.HasPrefix(rest, "#"):
			end = strings.IndexByte(rest, '\n')
		case strings.HasPrefix(rest, "/*") && !strings.HasPrefix(rest, "/*!") && !strings.HasPrefix(rest, "/*M!"):
			if end = strings.Index(rest, "*/"); end >= 0 {
				end++
			}
		default:
			return i
		}
		if end < 0 {
			return len(sql)
		}
		i += end + 1
	}
	return i
}

// canonical writes a definition so that it means the same in a database of
// another name and to another account: without its definer, and without the
// name of its own database before its tables.
func canonical(sql, database string) string {
	words := split(sql)
	own := name(database)
	var b strings.Builder
	for i := 0; i < len(words); i++ {
		w := words[i]
		if strings.EqualFold(w.text, "DEFINER") && i+2 < len(words) && words[i+1].text == "=" {
			i += 2 // the user, then perhaps @ and the host
			if i+2 < len(words) && words[i+1].text == "@" {
				i += 2
			} else if i+2 < len(words) && words[i+1].text == "(" {
				i += 2 // current_user()
			}
			continue
		}
		if i+1 < len(words) && words[i+1].text == "." && (w.text == own || w.text == database) {
			i++
			continue
		}
		b.WriteString(w.text + w.tail)
	}
	return b.String()
}

// asleep writes an event's definition so that it does not run.
func asleep(sql string) string {
	words := split(sql)
	for i := range words {
		if strings.EqualFold(words[i].text, "DO") {
			break
		}
		if strings.EqualFold(words[i].text, "ENABLE") {
			words[i].text = "DISABLE"
		}
	}
	var b strings.Builder
	for _, w := range words {
		b.WriteString(w.text + w.tail)
	}
	return b.String()
}
