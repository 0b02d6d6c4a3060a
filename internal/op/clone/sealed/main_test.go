// Package sealed tests what the code of a copy can reach, whatever it tries.
package sealed_test

import (
	"testing"

	"alibi/internal/demo/demotest"
	"alibi/internal/runtime/mariadb/mariadbtest"
)

func TestMain(m *testing.M) { demotest.Main(m, mariadbtest.Main) }
