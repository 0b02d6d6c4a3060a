// Package far tests copies between hosts, over real SSH, in a package of its own: it takes minutes.
package far_test

import (
	"testing"

	"alibi/internal/demo/demotest"
	"alibi/internal/runtime/mariadb/mariadbtest"
)

func TestMain(m *testing.M) { demotest.Main(m, mariadbtest.Main) }
