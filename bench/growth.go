package main

import (
	"fmt"
	"strings"
	"testing/fstest"
	"time"

	"knothole/core/project"
	"knothole/core/render"
)

// growing is a program whose work grows with a size.
type growing struct {
	name  string
	sizes [3]int // each twice the one before
	text  func(n int) string
}

// nested writes a text of JSON that nests n levels deep.
func nested(n int, inner string) string {
	return strings.Repeat(`{\"k\":[`, n) + inner + strings.Repeat(`]}`, n)
}

// growth is programs that once took the square of their size, or worse.
var growth = []growing{
	{"conversion into a recursive union", [3]int{60, 120, 240}, func(n int) string {
		return "type U = { a: int = 1, k: [U] } | { b: int, k: [U] } | int\noutput v = decode.json(\"" + nested(n,
			"1") + "\") as U\n"
	}},
	{"a recursive union asked for", [3]int{60, 120, 240}, func(n int) string {
		return "type J = int | [J] | { *: J }\noutput v = decode.json(\"" + nested(n, `\"s\"`) + "\") is J\n"
	}},
	{"a fold that spreads into a record", [3]int{20_000, 40_000, 80_000}, func(n int) string {
		return fmt.Sprintf("output v = record.length(list.fold(1..%d, {}, fn(a, x) = { ...a, \"k${x}\": x }))\n", n)
	}},
	{"a fold of with", [3]int{20_000, 40_000, 80_000}, func(n int) string {
		return fmt.Sprintf("output v = record.length(list.fold(1..%d, {}, fn(a, x) = a with { \"k${x}\": x }))\n", n)
	}},
	{"a fold of record.merge", [3]int{20_000, 40_000, 80_000}, func(n int) string {
		return fmt.Sprintf("output v = record.length(list.fold(1..%d, {}, fn(a, x) = record.merge(a, { \"k${x}\": x "+
			"})))\n", n)
	}},
	{"a list of different texts", [3]int{16_000, 32_000, 64_000}, func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, "  \"s%d\"\n", i)
		}
		return "let xs = [\n" + b.String() + "]\noutput v = list.length(xs)\n"
	}},
	{"list.distinct of ints", [3]int{50_000, 100_000, 200_000}, func(n int) string {
		return fmt.Sprintf("output v = list.length(list.distinct(1..%d))\n", n)
	}},
	{"list.union of texts", [3]int{50_000, 100_000, 200_000}, func(n int) string {
		return fmt.Sprintf("let xs = for i in 1..%d -> \"${i}\"\noutput v = list.length(list.union(xs, xs))\n", n)
	}},
	{"a pattern of many steps", [3]int{10_000, 20_000, 40_000}, func(n int) string {
		return fmt.Sprintf("let a = text.repeat(\"x\", %d)\noutput v = a matches '(x{0,500}){0,2}y'\n", n)
	}},
	{"sorting texts that begin alike", [3]int{2_000, 4_000, 8_000}, func(n int) string {
		return fmt.Sprintf("let p = text.repeat(\"x\", 1000)\nlet xs = for i in 1..%d -> \"${p}${i}\"\noutput v = "+
			"list.length(list.sort(xs))\n", n)
	}},
}

// evaluate checks and evaluates a program and returns what is found.
func evaluate(text string) (time.Duration, error) {
	start := time.Now()
	p, err := project.Load(fstest.MapFS{project.FileName: {Data: []byte("[environments.bench]\n")},
		"main.knot": {Data: []byte(text)}})
	if err != nil {
		return 0, err
	}
	_, findings := render.All(p, p.Concrete(), render.Options{Everything: true, Outputs: true})
	took := time.Since(start)
	if findings.HasErrors() {
		return 0, fmt.Errorf("%s", findings[0].Message)
	}
	return took, nil
}

// measureGrowth prints how long each program takes at three sizes, and how many times as long twice the size takes:
// the best of five rounds each. What grows in proportion is at 2, its square at 4.
func measureGrowth() error {
	fmt.Printf("\n%-36s %28s %28s %28s   %s\n", "growth", "n", "2n", "4n", "2n/n, 4n/2n")
	for _, g := range growth {
		var best [3]time.Duration
		for i, n := range g.sizes {
			text := g.text(n)
			for range 5 {
				took, err := evaluate(text)
				if err != nil {
					return fmt.Errorf("%s of %d: %w", g.name, n, err)
				}
				if best[i] == 0 || took < best[i] {
					best[i] = took
				}
			}
		}
		fmt.Printf("%-36s", g.name)
		for i, n := range g.sizes {
			fmt.Printf(" %14d: %9.2f ms", n, milliseconds(best[i]))
		}
		fmt.Printf("   %.1f, %.1f\n", float64(best[1])/float64(best[0]), float64(best[2])/float64(best[1]))
	}
	return nil
}
