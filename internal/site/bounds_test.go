package site_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"alibi/internal/site"
)

func TestBoundsAreReadAndTheRestIsUsual(t *testing.T) {
	s := site.Site{Runtime: site.Runtime{Bounds: "memory=2G processes=64 cpu=30m disk=10G"}}
	b := s.Bounds()
	assert.Equal(t, site.Bounds{Memory: 2 << 30, Program: 4 << 30, Processes: 64, CPU: 30 * time.Minute, File: 4 << 30,
		Files: 4096, Temp: 512 << 20, Disk: 10 << 30}, b)
	large := site.Site{Facts: &site.Facts{Bytes: 90 << 30, TableBytes: 10 << 30}}
	assert.EqualValues(t, 200<<30, large.Bounds().Disk, "a large copy has room to grow")
	for text, why := range map[string]string{
		"memory":          `"memory" is no bound: write memory, program`,
		"memory=":         `"memory=" is no bound: write memory, program`,
		"memory=2X":       `"memory=2X" is no bound: "2X" is no size`,
		"processes=2":     "2 is less than a site's programs need",
		"processes=few":   `"processes=few" is no bound`,
		"cpu=long":        `"long" is no lifetime`,
		"disk=1G room=1G": `"room=1G" is no bound`,
	} {
		_, err := site.UsualBounds.With(text)
		require.Error(t, err, text)
		assert.ErrorContains(t, err, why)
	}
}

func TestARuntimeFillsUpAnother(t *testing.T) {
	all := site.Runtime{PHP: "8.2", Memory: "256M", RunTime: 60, Upload: "64M", Show: true, Extensions: "+intl",
		Bounds: "disk=1G"}
	assert.Equal(t, all, site.Runtime{}.Or(all))
	some := site.Runtime{PHP: "7.4", Upload: "1M", Bounds: "disk=2G"}
	assert.Equal(t, site.Runtime{PHP: "7.4", Memory: "256M", RunTime: 60, Upload: "1M", Show: true, Extensions: "+intl",
		Bounds: "disk=2G"}, some.Or(all))
}
