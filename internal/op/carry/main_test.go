package carry_test

import (
	"testing"

	"alibi/internal/runtime/mariadb/mariadbtest"
)

func TestMain(m *testing.M) { mariadbtest.Main(m) }
