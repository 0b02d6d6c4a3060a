package scrub

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net/netip"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Faker makes things up. The same value always becomes the same, whatever table
// it stands in, and what was made up already stays. It cannot be turned round
// without the key.
type Faker struct{ Key []byte }

// number draws from a value.
func (f Faker) number(what, v string) uint64 {
	m := hmac.New(sha256.New, f.Key)
	m.Write([]byte(what + "\x00" + v))
	return binary.BigEndian.Uint64(m.Sum(nil))
}

// Domain is where made-up addresses are: a name that nobody can own (RFC 2606).
const Domain = "scrubbed.example"

// syllables are of no language; three of them make a made-up word.
var (
	heads = []string{
		"Bra",
		"Cu",
		"Dro",
		"Fe",
		"Gla",
		"Hu",
		"Ivo",
		"Jor",
		"Ka",
		"Lu",
		"Mer",
		"No",
		"Oda",
		"Pra",
		"Quo",
		"Re",
		"Sko",
		"Tul",
		"Uva",
		"Vro",
		"Wen",
		"Yar",
		"Zel",
		"Thi",
	}
	middle = []string{"bri", "dax", "fel", "gor", "lum", "mik", "nov", "pex", "rad", "sib", "tov", "vun", "wix", "zam"}
	tails  = []string{"ax", "ek", "ift", "on", "und", "yx", "urn", "olt"}
)

var madeUp = func() map[string]bool {
	out := map[string]bool{}
	for _, h := range heads {
		for _, m := range middle {
			for _, t := range tails {
				out[strings.ToLower(h+m+t)] = true
			}
		}
	}
	return out
}()

// Word makes a word up; the case of its first letter stays.
func (f Faker) Word(v string) string {
	key := strings.ToLower(v)
	if madeUp[key] {
		return v
	}
	n := f.number("word", key)
	w := heads[n%uint64(len(heads))] + middle[n>>8%uint64(len(middle))] + tails[n>>16%uint64(len(tails))]
	if r, _ := utf8.DecodeRuneInString(v); unicode.IsLower(r) {
		w = strings.ToLower(w)
	}
	return w
}

// Name makes a name up, word by word, so that whole names, first and last names
// agree; what stands between the words stays.
func (f Faker) Name(v string) string {
	var out strings.Builder
	rest := v
	for rest != "" {
		i := strings.IndexFunc(rest, nameRune)
		if i < 0 {
			break
		}
		out.WriteString(rest[:i])
		rest = rest[i:]
		if i = strings.IndexFunc(rest, func(r rune) bool { return !nameRune(r) }); i < 0 {
			i = len(rest)
		}
		out.WriteString(f.Word(rest[:i]))
		rest = rest[i:]
	}
	return out.String() + rest
}

func nameRune(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsMark(r) || r == '\'' || r == '’'
}

// Email makes a mail address up.
func (f Faker) Email(v string) string {
	if _, domain, ok := strings.Cut(v, "@"); !ok || strings.EqualFold(domain, Domain) {
		return v
	}
	n := f.number("mail", strings.ToLower(v))
	return fmt.Sprintf("%s.%08x@%s", strings.ToLower(f.Word(v)), uint32(n), Domain)
}

var madeLogin = regexp.MustCompile(`^someone-[0-9a-f]{10}$`)

// roles are names of accounts that tell nothing of a person.
var roles = map[string]bool{
	"admin":         true,
	"administrator": true,
	"editor":        true,
	"author":        true,
	"subscriber":    true,
	"webmaster":     true,
	"root":          true,
	"support":       true,
	"info":          true,
	"test":          true,
	"system":        true,
}

// Login makes an account's name up; one that says what it is for stays.
func (f Faker) Login(v string) string {
	if roles[strings.ToLower(v)] || madeLogin.MatchString(v) || v == "" {
		return v
	}
	return fmt.Sprintf("someone-%010x", f.number("login", strings.ToLower(v))&0xffffffffff)
}

// phoneCode is a country code that is given to nobody (ITU-T E.164, +999 reserved).
const phoneCode = "+999 "

// Phone makes a phone number up.
func (f Faker) Phone(v string) string {
	if strings.HasPrefix(v, phoneCode) || v == "" {
		return v
	}
	n := f.number("phone", strings.Map(digit, v))
	return fmt.Sprintf("%s%03d %03d %03d", phoneCode, n%1000, n/1000%1000, n/1000000%1000)
}

func digit(r rune) rune {
	if r >= '0' && r <= '9' {
		return r
	}
	return -1
}

var madeStreet = regexp.MustCompile(`^\d+ (\w+) Row$`)

// Street makes a street and a number up.
func (f Faker) Street(v string) string {
	if m := madeStreet.FindStringSubmatch(v); v == "" || m != nil && madeUp[strings.ToLower(m[1])] {
		return v
	}
	return fmt.Sprintf("%d %s Row", 1+f.number("street", strings.ToLower(v))%90, f.Word("Street "+strings.ToLower(v)))
}

var madePostcode = regexp.MustCompile(`^00-\d{4}$`)

// Postcode makes a post code up.
func (f Faker) Postcode(v string) string {
	if v == "" || madePostcode.MatchString(v) {
		return v
	}
	return fmt.Sprintf("00-%04d", f.number("postcode", strings.ToLower(v))%10000)
}

var (
	benches  = netip.MustParsePrefix("198.18.0.0/15") // RFC 2544: for tests of networks
	examples = netip.MustParsePrefix("2001:db8::/32") // RFC 3849
)

// IP makes a network address up. One of this machine or of a private network
// stays: it tells nothing.
func (f Faker) IP(v string) string {
	a, err := netip.ParseAddr(strings.TrimSpace(v))
	if err != nil || a.IsLoopback() || a.IsPrivate() || a.IsUnspecified() || benches.Contains(a) ||
		examples.Contains(a) {
		return v
	}
	n := f.number("ip", a.String())
	if a.Is4() || a.Is4In6() {
		return netip.AddrFrom4([4]byte{198, 18 + byte(n&1), byte(n >> 8), byte(n >> 16)}).String()
	}
	b := examples.Addr().As16()
	binary.BigEndian.PutUint64(b[8:], n)
	return netip.AddrFrom16(b).String()
}

var dates = regexp.MustCompile(`^([0-9]{4})-[0-9]{2}-[0-9]{2}|[0-9]{1,2}([./])[0-9]{1,2}[./]([0-9]{4})$`)

// Birth keeps the year of a date and makes it its first day; what is no date goes.
func (f Faker) Birth(v string) string {
	m := dates.FindStringSubmatch(v)
	switch {
	case m == nil:
		return ""
	case m[1] != "":
		return m[1] + "-01-01" + v[len(m[0]):]
	}
	return "01" + m[2] + "01" + m[2] + m[3]
}

// IBAN makes up an account number of a country that there is not (ISO 3166-1, user-assigned codes).
func (f Faker) IBAN(v string) string {
	if strings.HasPrefix(v, "XX00") || v == "" {
		return v
	}
	n := f.number("iban", strings.ToUpper(strings.ReplaceAll(v, " ", "")))
	return fmt.Sprintf("XX00%018d", n%1_000_000_000_000_000_000)
}
