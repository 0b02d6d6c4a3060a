package carry_test

import (
	"testing"

	"alibi/internal/demo/demotest"
	"alibi/internal/runtime/mariadb/mariadbtest"
)

func TestMain(m *testing.M) { demotest.Main(m, mariadbtest.Main) }
