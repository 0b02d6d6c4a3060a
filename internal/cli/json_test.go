package cli

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/site"
)

func TestJSONIsForPrograms(t *testing.T) {
	type inner struct {
		Deep []string `json:"deep"`
	}
	v := struct {
		inner
		At    time.Time       `json:"at"`
		When  time.Time       `json:"when"`
		Took  time.Duration   `json:"took"`
		List  []int           `json:"list"`
		Gone  []int           `json:"gone,omitempty"`
		Map   map[string]int  `json:"map"`
		Ptr   *inner          `json:"ptr"`
		Raw   json.RawMessage `json:"raw"`
		Bytes []byte          `json:"bytes"`
		Host  site.Address    `json:"host"`
		Text  string          `json:"text"`
		own   int
	}{When: time.Date(2027, 3, 14, 1, 2, 3, 0, time.UTC), Took: 1500 * time.Millisecond,
		Raw: json.RawMessage(`{"a":1}`), Text: "<a>", Host: site.Address{Scheme: "https", Host: "skerryline.example"}}
	b, err := encode(v)
	require.NoError(t, err)
	assert.Equal(t, `{
  "deep": [],
  "when": "2027-03-14T01:02:03Z",
  "took_seconds": 1.5,
  "list": [],
  "map": {},
  "ptr": null,
  "raw": {
    "a": 1
  },
  "bytes": null,
  "host": "https://skerryline.example",
  "text": "<a>"
}
`, string(b))
	var s site.Site
	b, err = encode(s)
	require.NoError(t, err)
	assert.NotContains(t, string(b), "0001-01-01")
	b, err = encode([]string(nil))
	require.NoError(t, err)
	assert.Equal(t, "[]\n", string(b))
}
