package core_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"runtime"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
)

// chains are shapes that people and generators repeat: how a value is made of the one before, which P stands for, in
// the step K.
var chains = []string{
	`if on[0] then P with { fK: 1 } else P`,
	`if on[0] then P with { fK: 1 } else P with { gK: "x" }`,
	`if on[0] then P with { f: "aK" } else P with { f: "bK" }`,
	`P with (if on[0] then { fK: 1 } else { gK: 2 })`,
	`P with (if on[0] then { fK: 1 } else {})`,
	`P with (if on[0] then { x: "aK" } else { x: "bK" })`,
	`P with { ...if on[0] then { fK: 1 } else { gK: 2 } }`,
	`P with { fK: 1, gK: if on[0] then 1 else "x" }`,
	`P with { deep: (if on[0] then { fK: 1 } else { gK: 2 }) }`,
	`{ ...P, ...if on[0] then { fK: 1 } }`,
	`{ ...P, fK: 1 }`,
	`{ a: P, b: P }`,
	`[P, P]`,
	`[...P2, P]`,
	`match n { 1 -> P, 2 -> P with { fK: 1 }, else -> P with { gK: 2 } }`,
	`match n { 1 -> { a: P }, 2 -> { b: P }, else -> { a: P, b: P } }`,
	`if on[0] then P else { kK: P }`,
	`if on[0] then [P] else P`,
	`(if on[0] then P else null) ?? P`,
	`record.merge(P, if on[0] then { fK: 1 } else { gK: 1 })`,
	`list.fold([1], P, fn(s, x) = if on[0] then s else P)`,
	`list.first([P, P with { fK: 1 }]) ?? P`,
	`(let q = P, r = P then if on[0] then q with { fK: 1 } else r)`,
	`(fn(x: any) = P)(1)`,
	`patch P { put .fK: 1 }`,
	`(for x in [P, P with { fK: 1 }] -> x)[0]`,
	`[P, P with { fK: 1 }][list.length(on)]`,
	`([P] + [P with { fK: 1 }])[0]`,
	`{ a: P, b: P with { fK: 1 } }[if on[0] then "a" else "b"]`,
	`record.values({ a: P, b: P with { fK: 1 } })[0]`,
	`record.get({ a: P, b: P with { fK: 1 } }, text.lower("A"), P)`,
}

// nests are shapes that repeat in one expression: P is what stands inside.
var nests = []string{
	`(P and on[0]) or on[1]`,
	`(P or on[0]) and on[1]`,
	`not (P and on[0])`,
	`(P and m != null) or (on[0] and m == null)`,
	`((P and u is (int)) or u is (string)) and on[0]`,
	`(if P then on[0] else on[1])`,
	`(on[0] == P)`,
	`(let q = P then q and q)`,
	`(match P { true -> on[0], false -> on[1] })`,
	`(P and ("a" in either or "b" in either))`,
	`list.any(on, fn(xK) = xK and P)`,
	`(list.length(for xK in on where P -> xK) > 0)`,
}

// nested writes an expression in itself, so many times.
func nested(shape func(k int) string, depth int) string {
	text := "on[2]"
	for k := range depth {
		text = strings.ReplaceAll(strings.ReplaceAll(shape(k), "K", fmt.Sprint(k)), "P", text)
	}
	return text
}

const chainHead = `input on: [bool] = [true, false, true]
input n: int = 1
input m: string? = null
input u: int | string | bool = 1
input either: { a: int } | { b: int } | { a: int, c: int } = { a: 1 }
let a0 = { f0: 1 }
let l0 = [1]
`

// chained writes a chain of declarations, of so many steps.
func chained(shape func(k int) string, steps int) string {
	var b strings.Builder
	b.WriteString(chainHead)
	for k := 1; k <= steps; k++ {
		text := strings.ReplaceAll(shape(k), "P2", fmt.Sprintf("l%d", k-1))
		text = strings.ReplaceAll(strings.ReplaceAll(text, "P", fmt.Sprintf("a%d", k-1)), "K", fmt.Sprint(k))
		name := "a"
		if strings.HasPrefix(text, "[...l") {
			name = "l"
			fmt.Fprintf(&b, "let a%d = a%d\n", k, k-1)
		} else {
			fmt.Fprintf(&b, "let l%d = l%d\n", k, k-1)
		}
		fmt.Fprintf(&b, "let %s%d = %s\n", name, k, text)
	}
	fmt.Fprintf(&b, "document \"x.yaml\" = { a: a%d, l: l%d }\n", steps, steps)
	return b.String()
}

// work counts what the checker allocates for a program: the same on every machine, unlike a time.
func work(t *testing.T, program string) uint64 {
	t.Helper()
	files := fstest.MapFS{project.FileName: {Data: []byte("[environments.bench]\n")},
		"main.knot": {Data: []byte(program)}}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	p, err := project.Load(files)
	runtime.ReadMemStats(&after)
	require.NoError(t, err)
	for _, f := range p.Findings {
		require.NotContains(t, f.Message, "mistake in knothole")
	}
	return after.Mallocs - before.Mallocs
}

// mostGrowth is by how much the work may grow when a program is twice as long. A chain that adds a field in each step
// makes records that are twice as large, too, which is four times the work: a shape whose work grows faster has a
// corner in which a page of text keeps the checker busy for ever.
const mostGrowth = 4.3

// growth fails when the work grows faster than that. Short programs can do so, since a part of the rules begins only at
// a certain size, so that a shape is measured again at twice the size before it fails.
func growth(t *testing.T, write func(size int) string, size int) {
	t.Helper()
	small := work(t, write(size))
	for range 4 {
		size *= 2
		large := work(t, write(size))
		if float64(large)/float64(small) < mostGrowth {
			return
		}
		if large > mostWork {
			require.Fail(t, "the work grows faster than the program", "%d allocations for size %d, %d for twice that:\n%s",
				small, size/2, large, write(6))
		}
		small = large
	}
	require.Fail(t, "the work grows faster than the program", "%d allocations for size %d:\n%s", small, size, write(6))
}

// mostWork is how many allocations are enough to see how the work of a shape grows.
const mostWork = 20_000_000

// TestCheckingGrowsWithTheProgram holds for shapes that are repeated, and for random mixtures of them, that a program
// of twice the length takes no more than that in proportion.
func TestCheckingGrowsWithTheProgram(t *testing.T) {
	one := func(shape string) func(int) string { return func(int) string { return shape } }
	for _, shape := range chains {
		growth(t, func(n int) string { return chained(one(shape), n) }, 24)
	}
	for _, shape := range nests {
		growth(t, func(n int) string {
			return chainHead + "document \"x.yaml\" = { a: " + nested(one(shape), n) + " }\n"
		}, 24)
	}
	rounds := 60
	if os.Getenv("KNOTHOLE_LONG") != "" {
		rounds = 3000
	}
	for seed := range rounds {
		random := rand.New(rand.NewPCG(uint64(seed), 26))
		mixed := func(all []string) func(int) string {
			var some []string
			for range 2 + random.IntN(2) {
				some = append(some, all[random.IntN(len(all))])
			}
			return func(k int) string { return some[k%len(some)] }
		}
		if random.IntN(2) == 0 {
			shape := mixed(chains)
			growth(t, func(n int) string { return chained(shape, n) }, 24)
		} else {
			shape := mixed(nests)
			growth(t, func(n int) string {
				return chainHead + "document \"x.yaml\" = { a: " + nested(shape, n) + " }\n"
			}, 24)
		}
	}
}
