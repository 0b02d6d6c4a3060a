package scrub_test

import (
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"alibi/internal/scrub"
	"alibi/internal/tables"
)

func TestPeopleAreFoundInEveryEncoding(t *testing.T) {
	s := scrubber()
	s.Learn(people, rowOf("Jörg Åkerlund", "Joerg.A@islands.example, second@islands.example", "+44 555 0172 33",
		"12 Kelp Lane", "Northwick", "203.0.113.9", "7B"))
	address := netip.MustParseAddr("203.0.113.9").As16()
	four := netip.MustParseAddr("203.0.113.9").As4()
	for name, text := range map[string]string{
		"percent-encoded mail": "to=joerg.a%40islands.example&x=1",
		"entity for the sign":  "joerg.a&#64;islands.example", "the second of a list": "Second@islands.example",
		"base64 inside text": "link: https://x.example/?d=" +
			base64.StdEncoding.EncodeToString([]byte("mail=joerg.a@islands.example;n=1")) + " end",
		"entities with names": "by J&ouml;rg &Aring;kerlund.", "numeric entities": "by J&#246;rg &#197;kerlund.",
		"hexadecimal entities": "by J&#xf6;rg &#xc5;kerlund",
		"percent-encoded name": "n=J%C3%B6rg+%C3%85kerlund",
		"md5 of the mail":      fmt.Sprintf("%x", md5.Sum([]byte("joerg.a@islands.example"))),
		"sha256 of the mail":   fmt.Sprintf("avatar/%x?s=1", sha256.Sum256([]byte("joerg.a@islands.example"))),
		"packed address":       string(address[:]), "packed in four": string(four[:]),
	} {
		r := rowOf(text)
		assert.Equal(t, []string{"body"}, s.Look(prose, r), "%s is seen", name)
		assert.Equal(t, 1, s.Row(prose, r), name)
		assert.Empty(t, s.Look(prose, r), "%s is gone: %q", name, r.Values[1].Bytes)
		again := string(r.Values[1].Bytes)
		s.Row(prose, r)
		assert.Equal(t, again, string(r.Values[1].Bytes), "%s: what is made up stays", name)
	}
}

func TestColumnsInOtherLanguages(t *testing.T) {
	for name, kind := range map[string]scrub.Kind{
		"vorname": scrub.Name, "kunde_nachname": scrub.Name, "telefon": scrub.Phone, "strasse": scrub.Street,
		"PLZ": scrub.Postcode, "wohnort": scrub.City,
		"prenom": scrub.Name, "rue": scrub.Street, "ville": scrub.City, "apellidos": scrub.Name, "correo": scrub.Email,
		"voornaam":     scrub.Name,
		"geburtsdatum": scrub.Birth, "date_of_birth": scrub.Birth, "iban": scrub.IBAN, "title": "", "sort": "",
		"passport": "",
	} {
		assert.Equal(t, kind, scrub.ByName(name), name)
	}
	f := scrub.Faker{Key: []byte("k")}
	assert.Equal(t, "1980-01-01", f.Birth("1980-07-14"))
	assert.Equal(t, "01.01.1980", f.Birth("14.07.1980"))
	assert.Regexp(t, `^XX00\d{18}$`, f.IBAN("GB29 NWBK 6016 1331 9268 19"))
	assert.Equal(t, f.IBAN("GB29NWBK60161331926819"), f.IBAN("GB29 NWBK 6016 1331 9268 19"), "the same account")
}

func TestColumnsAreProposedByWhatTheyHold(t *testing.T) {
	s := scrubber()
	s.Learn(people, mara())
	odd := tables.Table{
		Name: "sk_odd",
		Columns: []tables.Column{
			{Name: "id"},
			{Name: "x1"},
			{Name: "x2"},
			{Name: "x3"},
			{Name: "x4"},
			{Name: "made"},
			{Name: "code"},
		},
	}
	p := s.Propose()
	for i := range 5 {
		p.Watch(odd, rowOf("+44 555 017"+fmt.Sprint(i)+" 33", "GB29 NWBK 6016 1331 9268 1"+fmt.Sprint(i),
			"1980-07-1"+fmt.Sprint(i), "Mara Quillon", "2026-07-1"+fmt.Sprint(i), "AB-100"+fmt.Sprint(i)))
	}
	assert.Equal(t, []string{
		"sk_odd.x1 looks like phones: 5 of 5 values", "sk_odd.x2 looks like IBANs: 5 of 5 values",
		"sk_odd.x3 looks like dates of birth: 5 of 5 values", "sk_odd.x4 looks like names: 5 of 5 values",
	}, p.Found(), strings.Join(p.Found(), "; "))
}
