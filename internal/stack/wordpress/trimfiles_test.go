package wordpress

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestFamiliesOfPictures(t *testing.T) {
	for base, want := range map[string]string{
		"Photo-300x200.jpg": "photo", "photo-scaled.jpg": "photo", "photo.jpg.webp": "photo",
		"photo-scaled-150x150.jpg": "photo", "photo-e1700000000000.png": "photo", "photo@2x.png": "photo",
		"photo-2.jpg": "photo-2", ".htaccess": ".htaccess", "1024x768.jpg": "1024x768", "timetable.pdf": "timetable",
	} {
		assert.Equal(t, want, family(base), base)
	}
}

func TestNamesOfFilesInTexts(t *testing.T) {
	for text, want := range map[string][]string{
		`<img src="https://a.example/wp-content/uploads/2024/05/pier.jpg?x=1">`: {"a.example", "pier.jpg"},
		`{"url":"https:\/\/a.example\/2024\/05\/t%C3%A4ble.png"}`:               {"a.example", "t%C3%A4ble.png", "täble.png"},
		`a:1:{s:4:"file";s:12:"quay-150.jpg";}`:                                 {"quay-150.jpg"},
		"[gallery file=dock.gif] and more.":                                     {"dock.gif", "more."},
		"nothing here":                                                          nil,
		"[{\"src\":\"/uploads/a.b.c.zip\"}]\nbackground:url(x.svg)":             {"a.b.c.zip", "x.svg"},
	} {
		var got []string
		names(text, func(n string) { got = append(got, n) })
		assert.Equal(t, want, got, text)
	}
}
