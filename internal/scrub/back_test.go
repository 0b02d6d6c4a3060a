package scrub_test

import (
	"encoding/base64"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/phpval"
	"alibi/internal/scrub"
	"alibi/internal/tables"
)

func TestWhoIsMadeUpIsGivenBack(t *testing.T) {
	s := scrubber()
	s.Return()
	s.Learn(people, mara())
	made := mara()
	s.Row(people, made)
	kinds := s.Kinds(people, made)
	for i, v := range made.Values[1:7] {
		got, err := s.HomeValue(kinds[i+1], v.Bytes)
		require.NoError(t, err, people.Columns[i+1].Name)
		assert.Equal(t, mara().Values[i+1].String(), string(got))
	}
	name, mail := made.Values[1].String(), made.Values[2].String()
	for what, texts := range map[string][2]string{
		"prose":      {"Ask " + name + " at " + mail + ".", "Ask Mara Quillon at Mara.Quillon@islands.example."},
		"serialized": {string(phpval.Map("who", name).Marshal()), string(phpval.Map("who", "Mara Quillon").Marshal())},
		"base64": {base64.StdEncoding.EncodeToString([]byte("Write to " + mail + " soon")),
			base64.StdEncoding.EncodeToString([]byte("Write to Mara.Quillon@islands.example soon"))},
		"typed on the copy": {"Ask Nobody Else, nobody@skerryline.example", "Ask Nobody Else, nobody@skerryline.example"},
	} {
		got, err := s.HomeText([]byte(texts[0]), nil)
		require.NoError(t, err, what)
		assert.Equal(t, texts[1], string(got), what)
	}
}

// An address that stands in a text and in no column of people is known from the text that it was made of.
func TestAnAddressOfATextIsGivenBack(t *testing.T) {
	s := scrubber()
	s.Return()
	was := rowOf("Write to quay@skerryline.example.")
	r := rowOf("Write to quay@skerryline.example.")
	s.Row(prose, r)
	text := append(r.Values[1].Bytes[:len(r.Values[1].Bytes):len(r.Values[1].Bytes)], " Soon."...)
	got, err := s.HomeText(text, was.Values)
	require.NoError(t, err)
	assert.Equal(t, "Write to quay@skerryline.example. Soon.", string(got))
	_, err = s.HomeText(text, nil)
	assert.ErrorIs(t, err, scrub.ErrMadeUp, "of which nothing is known")
}

func TestWhoIsMadeUpAndNotKnownIsSeen(t *testing.T) {
	s := scrubber()
	s.Return()
	r := mara()
	s.Row(people, r) // nothing of hers was learned
	kinds := s.Kinds(people, r)
	for i, v := range r.Values[1:7] {
		_, err := s.HomeValue(kinds[i+1], v.Bytes)
		assert.ErrorIs(t, err, scrub.ErrMadeUp, people.Columns[i+1].Name)
		if i != 4 && i != 5 { // a town is a word; an address may be anybody's
			_, err = s.HomeText([]byte("At "+v.String()+"."), nil)
			assert.ErrorIs(t, err, scrub.ErrMadeUp, v.String())
		}
	}
	_, err := s.HomeValue(scrub.Lock, []byte(scrub.Locked))
	assert.ErrorIs(t, err, scrub.ErrMadeUp)
	got, err := s.HomeValue(scrub.Lock, []byte("$2y$10$typed"))
	require.NoError(t, err)
	assert.Equal(t, "$2y$10$typed", string(got))
}

// Two who became one are told from nobody, and stay for people to say who is meant.
func TestTwoWhoBecameOneAreNotGivenBack(t *testing.T) {
	s := scrubber()
	s.Return()
	born := tables.Table{Name: "sk_born", Columns: []tables.Column{{Name: "id"}, {Name: "birthday"}}}
	s.Learn(born, rowOf("1980-04-01"))
	s.Learn(born, rowOf("1980-05-02"))
	got, err := s.HomeValue(scrub.Birth, []byte("1980-01-01"))
	require.NoError(t, err)
	assert.Equal(t, "1980-01-01", string(got))
}
