// Command bench measures Knothole side by side with programs that do the same work, in one run: the parser beside
// that of Go, the checker beside that of Go, evaluation beside a general-purpose interpreter. What is measured must
// come to the same result on both sides, else the run fails. First comes the whole program on a generated fleet, then
// comparing beside rendering, last how programs grow that once took the square of their size. Run it with: go run .
// (in this directory), or with the names of measurements, for these alone.
package main

import (
	"fmt"
	"os"
	"slices"
	"time"
)

// side is one of two ways to do the same work. It returns what it came to, as text.
type side struct {
	name string
	run  func() string
}

// rounds is how often each side runs; the sides take turns, so that other load on the machine meets both.
const rounds = 15

// beside runs two sides and prints their best times, their medians, and the ratio of the best.
func beside(title string, ours, theirs side, equal bool) {
	sides := []side{ours, theirs}
	times := make([][]time.Duration, 2)
	var results [2]string
	for range rounds + 1 {
		for i, s := range sides {
			start := time.Now()
			results[i] = s.run()
			times[i] = append(times[i], time.Since(start))
		}
	}
	if equal && results[0] != results[1] {
		fmt.Fprintf(os.Stderr, "%s: the results differ:\n  %s: %.200s\n  %s: %.200s\n", title, ours.name, results[0],
			theirs.name, results[1])
		os.Exit(1)
	}
	var best, median [2]time.Duration
	for i, t := range times {
		t = t[1:] // the first round warms up
		slices.Sort(t)
		best[i], median[i] = t[0], t[len(t)/2]
	}
	fmt.Printf("%-34s %9.2f ms %9.2f ms   %-10s %9.2f ms %9.2f ms   ratio %.2f\n", title,
		milliseconds(best[0]), milliseconds(median[0]), theirs.name, milliseconds(best[1]), milliseconds(median[1]),
		float64(best[0])/float64(best[1]))
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// measurements are all, in their order. The fleet comes first: what the kernel says of the memory of a program is at
// least what the one had that started it.
var measurements = []struct {
	name string
	run  func() error
}{
	{"fleet", fleet},
	{"comparison", comparisons},
	{"rules", rules},
	{"parsing", func() error { head(); parsing(); return nil }},
	{"evaluation", func() error { head(); evaluation(); return nil }},
	{"validation", func() error { head(); validation(); return nil }},
	{"growth", measureGrowth},
}

func head() {
	fmt.Printf("\n%-34s %12s %12s   %-10s %12s %12s\n", "", "best", "median", "beside", "best", "median")
}

func main() {
	done := false
	for _, m := range measurements {
		if len(os.Args) > 1 && !slices.Contains(os.Args[1:], m.name) {
			continue
		}
		done = true
		if err := m.run(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
	}
	if !done {
		fmt.Fprintln(os.Stderr, "there is no such measurement")
		os.Exit(1)
	}
}
