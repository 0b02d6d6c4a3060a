// Package outside tests what a real copy runs being changed from outside, in a package of its own: it takes minutes.
package outside_test

import (
	"testing"

	"alibi/internal/demo/demotest"
	"alibi/internal/runtime/mariadb/mariadbtest"
)

func TestMain(m *testing.M) { demotest.Main(m, mariadbtest.Main) }
