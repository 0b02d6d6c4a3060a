package scrub

import (
	"regexp"
	"sync"

	"alibi/internal/tables"
)

// Kind is a kind of personal data.
type Kind string

// The kinds. Blank is emptied, Lock becomes a text that is no password's hash.
const (
	Name     Kind = "name"
	Email    Kind = "mail"
	Login    Kind = "account"
	Phone    Kind = "phone"
	Street   Kind = "street"
	City     Kind = "city"
	Postcode Kind = "postcode"
	IP       Kind = "network address"
	Birth    Kind = "date of birth"
	IBAN     Kind = "IBAN"
	Blank    Kind = "blank"
	Lock     Kind = "password"
)

// Kinds are those that a person may name in the configuration.
var Kinds = []Kind{Name, Email, Login, Phone, Street, City, Postcode, IP, Birth, IBAN, Blank, Lock}

// Many says how the kind is called where there are n of it.
func (k Kind) Many(n int) string {
	if many := map[Kind]string{Name: "names", Email: "mail addresses", Login: "accounts", Phone: "phones",
		Street: "streets", IP: "network addresses", Birth: "dates of birth", IBAN: "IBANs"}[k]; n != 1 &&
		many != "" {
		return many
	}
	return string(k)
}

// Rules tell where personal data stand.
type Rules struct {
	// Table tells whether some of a table's columns may hold any.
	Table func(t tables.Table) bool
	// Row names the kinds in a row, by column; nil: none. It is valid until the next call.
	Row func(t tables.Table, r tables.Row) []Kind
}

// Columns are the rules of a site of which nothing is known but its tables: columns
// are taken for what they are called. own names further ones, as TABLE.COLUMN.
func Columns(own map[string]Kind) Rules {
	var mu sync.Mutex
	known := map[string][]Kind{}
	of := func(t tables.Table) []Kind {
		mu.Lock()
		defer mu.Unlock()
		k, ok := known[t.Name]
		if ok {
			return k
		}
		for i, c := range t.Columns {
			kind := own[t.Name+"."+c.Name]
			if kind == "" {
				kind = ByName(c.Name)
			}
			if kind != "" {
				if k == nil {
					k = make([]Kind, len(t.Columns))
				}
				k[i] = kind
			}
		}
		known[t.Name] = k
		return k
	}
	return Rules{
		Table: func(t tables.Table) bool { return of(t) != nil },
		Row:   func(t tables.Table, _ tables.Row) []Kind { return of(t) },
	}
}

// columns tell the kind of a column by its name, in tables of which nobody knows
// more.
var columns = []struct {
	name *regexp.Regexp
	kind Kind
}{
	{regexp.MustCompile(`(?i)(^|_)e?mail(_?addr(ess)?)?$`), Email},
	{regexp.MustCompile(`(?i)(^|_)(phone|mobile|telephone|fax)(_?(no|number))?$`), Phone},
	{
		regexp.MustCompile(
			`(?i)(^|_)(first|last|full|sur|family|given|customer|passenger|guest|contact|author|holder|billing|shipping)_?name$`,
		),
		Name,
	},
	{regexp.MustCompile(`(?i)(^|_)(street|address_?[12])$`), Street},
	{regexp.MustCompile(`(?i)(^|_)(city|town)$`), City},
	{regexp.MustCompile(`(?i)(^|_)(post_?code|zip(_?code)?)$`), Postcode},
	{regexp.MustCompile(`(?i)(^|_)ip(_?addr(ess)?)?$`), IP},
	{regexp.MustCompile(`(?i)(^|_)user_?agent$`), Blank},
	{
		regexp.MustCompile(
			`(?i)(^|_)(birth_?(date|day)|date_?of_?birth|dob|geburts(datum|tag)|naissance|nacimiento|nascita|geboortedatum)$`,
		),
		Birth,
	},
	{regexp.MustCompile(`(?i)(^|_)iban$`), IBAN},
	// German, French, Spanish, Italian, Dutch
	{
		regexp.MustCompile(
			`(?i)(^|_)(vorname|nachname|familienname|prenom|prénom|nom_de_famille|apellidos?|cognome|voornaam|achternaam)$`,
		),
		Name,
	},
	{
		regexp.MustCompile(
			`(?i)(^|_)(telefon|telefonnummer|handy|mobil|téléphone|telefono|teléfono|movil|móvil|cellulare|telefoon)(_?nr)?$`,
		),
		Phone,
	},
	{
		regexp.MustCompile(
			`(?i)(^|_)(strasse|straße|anschrift|rue|calle|direccion|dirección|indirizzo|straat|adres|adresse)$`,
		),
		Street,
	},
	{regexp.MustCompile(`(?i)(^|_)(ort|wohnort|stadt|ville|ciudad|citta|città|woonplaats)$`), City},
	{regexp.MustCompile(`(?i)(^|_)(plz|postleitzahl|code_?postal|codigo_?postal|cap|postcode)$`), Postcode},
	{regexp.MustCompile(`(?i)(^|_)(correo|courriel|posta_?elettronica)$`), Email},
}

// ByName tells the kind of data of a column, or of a key, by what it is called.
func ByName(name string) Kind {
	for _, c := range columns {
		if c.name.MatchString(name) {
			return c.kind
		}
	}
	return ""
}
