package scrub

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"alibi/internal/tables"
)

// Proposals watches the contents of columns of which nobody said that they hold personal data, and tells
// which look as if they did.
type Proposals struct {
	s     *Scrubber
	seen  map[string]int // filled values by TABLE.COLUMN
	looks map[string]map[Kind]int
}

// Propose begins to watch.
func (s *Scrubber) Propose() *Proposals {
	return &Proposals{s: s, seen: map[string]int{}, looks: map[string]map[Kind]int{}}
}

// enoughValues is how many values of a column look alike before it is proposed.
const enoughValues = 3

var (
	looksPhone = regexp.MustCompile(`^\+?[0-9][0-9 ()/.\-]{6,20}$`)
	looksIBAN  = regexp.MustCompile(`^[A-Z]{2}[0-9]{2}(?: ?[A-Z0-9]{4}){3,7}(?: ?[A-Z0-9]{1,4})?$`)
	looksBirth = regexp.MustCompile(`^(?:19[0-9]{2}|200[0-9])-[01][0-9]-[0-3][0-9]$`)
	looksDate  = regexp.MustCompile(`^[0-9]{4}-[01][0-9]`)
)

// look tells what a value looks like.
func (s *Scrubber) look(v string) Kind {
	switch {
	case len(v) < 6 || len(v) > 120 || strings.HasSuffix(strings.ToLower(v), Domain) || strings.HasPrefix(v, phoneCode):
		return ""
	case mail.FindString(v) == v:
		return Email
	case looksIBAN.MatchString(v):
		return IBAN
	case looksBirth.MatchString(v):
		return Birth
	case looksPhone.MatchString(v) && !looksDate.MatchString(v) && len(strings.Map(digit, v)) >= 7 &&
		strings.ContainsAny(v, "+ /-("):
		return Phone
	case len(strings.Fields(v)) == 2 && s.terms.in([]byte(v)):
		return Name
	}
	return ""
}

// Watch looks at a row.
func (p *Proposals) Watch(t tables.Table, r tables.Row) {
	kinds := p.s.rules.Row(t, r)
	for i, v := range r.Values {
		if v.Kind != tables.Text || len(v.Bytes) == 0 || kinds != nil && kinds[i] != "" {
			continue
		}
		at := t.Name + "." + t.Columns[i].Name
		p.seen[at]++
		if k := p.s.look(strings.TrimSpace(string(v.Bytes))); k != "" {
			if p.looks[at] == nil {
				p.looks[at] = map[Kind]int{}
			}
			p.looks[at][k]++
		}
	}
}

// Found names the columns most of whose values look personal, with what they look like.
func (p *Proposals) Found() (out []string) {
	for _, at := range slices.Sorted(maps.Keys(p.looks)) {
		for _, k := range slices.Sorted(maps.Keys(p.looks[at])) {
			if n := p.looks[at][k]; n >= enoughValues && n*2 >= p.seen[at] {
				out = append(out, fmt.Sprintf("%s looks like %s: %d of %d values", at, k.Many(n), n, p.seen[at]))
			}
		}
	}
	return out
}
