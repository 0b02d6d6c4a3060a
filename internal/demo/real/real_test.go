package real

import (
	"context"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"alibi/internal/runtime/mariadb/mariadbtest"
)

func TestMain(m *testing.M) { mariadbtest.Main(m) }

func TestMake(t *testing.T) {
	root := mariadbtest.Root()
	began := time.Now()
	err := Make(
		context.Background(),
		Spec{
			Root:     filepath.Join(t.TempDir(), "site"),
			URL:      "https://skerryline.example",
			Title:    "Skerry Line",
			Tagline:  "Boats",
			Blocks:   true,
			Posts:    20,
			Pictures: 4,
			Seed:     1,
			Prefix:   "sk_",
			Server:   "localhost:" + mariadbtest.Socket(),
			Admin:    root,
			Database: "skerryline",
			Password: "made up",
		},
	)
	require.NoError(t, err)
	t.Log(time.Since(began))
	err = Make(
		context.Background(),
		Spec{
			Root:     filepath.Join(t.TempDir(), "net"),
			URL:      "https://islands.skerryline.example",
			Title:    "Islands",
			Tagline:  "Boats",
			Posts:    5,
			Pictures: 1,
			Seed:     1,
			Prefix:   "wp_",
			Server:   "localhost:" + mariadbtest.Socket(),
			Admin:    root,
			Database: "islands",
			Password: "made up",
			Network:  []Sub{{Name: "north", Title: "North", Posts: 3}},
		},
	)
	require.NoError(t, err)
}
