package main

import (
	"fmt"
	"strings"
	"testing/fstest"
	"time"

	"knothole/core/compare"
	"knothole/core/project"
	"knothole/core/render"
)

// growing is a program whose work grows with a size.
type growing struct {
	name  string
	sizes [3]int // each twice the one before
	text  func(n int) string
	// compared says that two environments of it are compared, with causes, of which all differ.
	compared bool
}

// nested writes a text of JSON that nests n levels deep.
func nested(n int, inner string) string {
	return strings.Repeat(`{\"k\":[`, n) + inner + strings.Repeat(`]}`, n)
}

// growth is programs that once took the square of their size, or worse.
var growth = []growing{
	{name: "conversion into a recursive union", sizes: [3]int{60, 120, 240}, text: func(n int) string {
		return "type U = { a: int = 1, k: [U] } | { b: int, k: [U] } | int\noutput v = decode.json(\"" + nested(n,
			"1") + "\") as U\n"
	}},
	{name: "a recursive union asked for", sizes: [3]int{60, 120, 240}, text: func(n int) string {
		return "type J = int | [J] | { *: J }\noutput v = decode.json(\"" + nested(n, `\"s\"`) + "\") is J\n"
	}},
	{name: "a fold that spreads into a record", sizes: [3]int{20_000, 40_000, 80_000}, text: func(n int) string {
		return fmt.Sprintf("output v = record.length(list.fold(1..%d, {}, fn(a, x) = { ...a, \"k${x}\": x }))\n", n)
	}},
	{name: "a fold of with", sizes: [3]int{20_000, 40_000, 80_000}, text: func(n int) string {
		return fmt.Sprintf("output v = record.length(list.fold(1..%d, {}, fn(a, x) = a with { \"k${x}\": x }))\n", n)
	}},
	{name: "a fold of record.merge", sizes: [3]int{20_000, 40_000, 80_000}, text: func(n int) string {
		return fmt.Sprintf("output v = record.length(list.fold(1..%d, {}, fn(a, x) = record.merge(a, { \"k${x}\": x "+
			"})))\n", n)
	}},
	{name: "a list of different texts", sizes: [3]int{16_000, 32_000, 64_000}, text: func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, "  \"s%d\"\n", i)
		}
		return "let xs = [\n" + b.String() + "]\noutput v = list.length(xs)\n"
	}},
	{name: "list.distinct of ints", sizes: [3]int{50_000, 100_000, 200_000}, text: func(n int) string {
		return fmt.Sprintf("output v = list.length(list.distinct(1..%d))\n", n)
	}},
	{name: "list.union of texts", sizes: [3]int{50_000, 100_000, 200_000}, text: func(n int) string {
		return fmt.Sprintf("let xs = for i in 1..%d -> \"${i}\"\noutput v = list.length(list.union(xs, xs))\n", n)
	}},
	{name: "a pattern of many steps", sizes: [3]int{10_000, 20_000, 40_000}, text: func(n int) string {
		return fmt.Sprintf("let a = text.repeat(\"x\", %d)\noutput v = a matches '(x{0,500}){0,2}y'\n", n)
	}},
	{name: "sorting texts that begin alike", sizes: [3]int{2_000, 4_000, 8_000}, text: func(n int) string {
		return fmt.Sprintf("let p = text.repeat(\"x\", 1000)\nlet xs = for i in 1..%d -> \"${p}${i}\"\noutput v = "+
			"list.length(list.sort(xs))\n", n)
	}},
	{name: "comparing elements with keys", sizes: [3]int{2_500, 5_000, 10_000}, text: func(n int) string {
		return fmt.Sprintf("document \"a.yaml\" = for i in 1..%d -> { id: i, v: \"${i}-${env.name}\" }\n", n)
	}, compared: true},
	{name: "comparing scalars", sizes: [3]int{2_500, 5_000, 10_000}, text: func(n int) string {
		return fmt.Sprintf("document \"a.yaml\" = for i in 1..%d -> \"${i}-${env.name}\"\n", n)
	}, compared: true},
	{name: "comparing records without keys", sizes: [3]int{2_500, 5_000, 10_000}, text: func(n int) string {
		return fmt.Sprintf("document \"a.yaml\" = for i in 1..%d -> { a: { b: \"${i}-${env.name}\" } }\n", n)
	}, compared: true},
	{name: "comparing lists in lists", sizes: [3]int{250, 500, 1_000}, text: func(n int) string {
		return fmt.Sprintf("document \"a.yaml\" = for i in 1..%d -> "+
			"{ m: for j in 1..10 -> \"${i}-${j}-${env.name}\" }\n", n)
	}, compared: true},
	{name: "comparing a folded string", sizes: [3]int{1_000, 2_000, 4_000}, text: func(n int) string {
		return fmt.Sprintf("document \"a.txt\" = list.fold(1..%d, \"\", fn(a, x) = a + \"${x} ${env.name}\\n\")\n", n)
	}, compared: true},
	{name: "comparing a string of many lines", sizes: [3]int{25_000, 50_000, 100_000}, text: func(n int) string {
		return fmt.Sprintf("document \"a.txt\" = \"\"\"\n  ${for i in 1..%d -> \"${i} ${env.name}\"}\n  \"\"\"\n", n)
	}, compared: true},
}

// evaluate checks and evaluates a program and returns what is found.
func evaluate(text string) (time.Duration, error) {
	start := time.Now()
	p, err := load(text)
	if err != nil {
		return 0, err
	}
	_, findings, _ := render.All(p, p.Runs(p.Concrete()), render.Options{Everything: true, Outputs: true})
	took := time.Since(start)
	if findings.HasErrors() {
		return 0, fmt.Errorf("%s", findings[0].Message)
	}
	return took, nil
}

func load(text string) (*project.Project, error) {
	return project.Load(fstest.MapFS{project.FileName: {Data: []byte("[environments.bench]\n[environments.north]\n")},
		"main.knot": {Data: []byte(text)}})
}

// compareBoth compares the two environments of a program, which must differ.
func compareBoth(text string) (time.Duration, error) {
	start := time.Now()
	p, err := load(text)
	if err != nil {
		return 0, err
	}
	c, findings, _ := compare.Environments(p, p.Runs(p.Concrete()), compare.Options{})
	took := time.Since(start)
	switch {
	case findings.HasErrors():
		return 0, fmt.Errorf("%s", findings[0].Message)
	case c.Equal() || len(c.Documents[0].Rows) == 0:
		return 0, fmt.Errorf("nothing differs")
	}
	return took, nil
}

// run evaluates or compares a program.
func (g growing) run(n int) (time.Duration, error) {
	if g.compared {
		return compareBoth(g.text(n))
	}
	return evaluate(g.text(n))
}

// measureGrowth prints how long each program takes at three sizes, and how many times as long twice the size takes:
// the best of five rounds each. What grows in proportion is at 2, its square at 4.
func measureGrowth() error {
	fmt.Printf("\n%-36s %28s %28s %28s   %s\n", "growth", "n", "2n", "4n", "2n/n, 4n/2n")
	for _, g := range growth {
		var best [3]time.Duration
		for i, n := range g.sizes {
			for range 5 {
				took, err := g.run(n)
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
