package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestALargerHeapGetsALargerLimit(t *testing.T) {
	assert.EqualValues(t, leastLimit, limitFor(0))
	assert.EqualValues(t, leastLimit, limitFor(100<<20))
	assert.EqualValues(t, 600<<20, limitFor(400<<20),
		"half as much again is free: what is in use is not collected over and over")
}
