package wall

import (
	"testing"

	"github.com/stretchr/testify/require"

	"alibi/internal/site"
)

// Our own runtime has more memory than a program needs. It becomes the program under bounds that it is above already,
// and must not ask for more between.
func TestAWorldBeginsUnderBoundsThatWeAreAbove(t *testing.T) {
	here(t)
	t.Setenv("GOGC", "1")
	w := World{Run: short(t), Owner: Account("c1"), Bounds: site.Bounds{Program: 64 << 20, Processes: 8}}
	for range 100 {
		require.Equal(t, "up\n", run(t, w, nil, "/bin/sh", "-c", "echo up"))
	}
}
