package pins

import (
	"fmt"
	"slices"
	"strings"

	"alibi/internal/site"
)

// A range is one or more conditions, all of which must hold: an exact version
// (2.4.1), a comparison (>=2.4, <3), everything below a number (2.4.*), what only
// differs in the last number from this one on (~2.4.1), the first number kept
// (^2.4), or newest.

// Exact tells whether only one version fits.
func Exact(r string) bool {
	return r != "" && r != "newest" && !strings.ContainsAny(r, "<>=~^* ,")
}

// OfCore is the range that a sheet's version of the core means, held against the one that is there:
// a number of two parts, 6.8, is the release of that name, or else one of its branch.
func OfCore(r, is string) string {
	if Exact(r) && strings.Count(r, ".") == 1 && r != is {
		return r + ".*"
	}
	return r
}

// CheckRange tells what is wrong with a range.
func CheckRange(r string) error {
	if r == "" || r == "newest" {
		return nil
	}
	for _, c := range conditions(r) {
		v := strings.TrimSuffix(strings.TrimLeft(c, "<>=~^"), ".*")
		sign := c[:len(c)-len(strings.TrimLeft(c, "<>=~^"))]
		if !slices.Contains([]string{"", "=", ">", "<", ">=", "<=", "~", "^"}, sign) || v == "" ||
			strings.Trim(v[:1], "0123456789") != "" ||
			strings.ContainsAny(v, "<>=~^* ") {
			return fmt.Errorf("%q is no version and no range: write 2.4.1, >=2.4 <3, 2.4.*, ~2.4.1, ^2.4 or newest", r)
		}
	}
	return nil
}

func conditions(r string) []string {
	return strings.FieldsFunc(r, func(c rune) bool { return c == ' ' || c == ',' })
}

// Fits tells whether a version is in a range. newest fits any: which that is
// the catalogue knows.
func Fits(r, version string) bool {
	if r == "" || r == "newest" {
		return true
	}
	for _, c := range conditions(r) {
		if !fits(c, version) {
			return false
		}
	}
	return true
}

func fits(c, version string) bool {
	v := strings.TrimLeft(c, "<>=~^")
	is := site.CompareVersions(version, strings.TrimSuffix(v, ".*"))
	switch sign := c[:len(c)-len(v)]; {
	case strings.HasSuffix(v, ".*"):
		return below(version, strings.TrimSuffix(v, ".*"))
	case sign == ">=":
		return is >= 0
	case sign == "<=":
		return is <= 0
	case sign == ">":
		return is > 0
	case sign == "<":
		return is < 0
	case sign == "~":
		head := v
		if i := strings.LastIndex(v, "."); i > 0 {
			head = v[:i]
		}
		return is >= 0 && below(version, head)
	case sign == "^":
		head, _, _ := strings.Cut(v, ".")
		return is >= 0 && below(version, head)
	}
	return is == 0
}

// below tells whether a version begins with some numbers.
func below(version, head string) bool {
	return version == head || strings.HasPrefix(version, head+".") || strings.HasPrefix(version, head+"-")
}

// Choose gives the newest of some versions that fits.
func Choose(r string, versions []string) (best string, ok bool) {
	for _, v := range versions {
		if Fits(r, v) && (!ok || site.CompareVersions(v, best) > 0) {
			best, ok = v, true
		}
	}
	return best, ok
}
