package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
)

// history prints the figures of a record as a table of medians, by what was measured and then by day.
func history(name string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	by := map[string][]figure{}
	var keys []string
	for d := json.NewDecoder(f); ; {
		var x figure
		if err := d.Decode(&x); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		k := strings.Join([]string{x.Size, x.Case, x.At.Format("2006-01-02"), x.Build}, " | ")
		if by[k] == nil {
			keys = append(keys, k)
		}
		by[k] = append(by[k], x)
	}
	slices.Sort(keys)
	fmt.Println("| site | what | day | program | runs | against | answers | ratio | proven | ratio | memory |")
	fmt.Println("|---|---|---|---|---|---|---|---|---|---|---|")
	for _, k := range keys {
		l := by[k]
		fmt.Printf("| %s | %d | %.2f s | %.2f s | %.2f | %.2f s | %.2f | %.0f MiB |\n", k, len(l),
			median(l, func(f figure) float64 { return f.Against }), median(l, func(f figure) float64 { return f.Answers }),
			median(l, func(f figure) float64 { return f.Answers / f.Against }),
			median(l, func(f figure) float64 { return f.Proven }),
			median(l, func(f figure) float64 { return f.Proven / f.Against }),
			median(l, func(f figure) float64 { return float64(f.Peak >> 20) }))
	}
	return nil
}
