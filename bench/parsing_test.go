package main

import (
	"testing"

	"knothole/core/source"
	"knothole/core/syntax"
)

func BenchmarkParse(b *testing.B) {
	text := knotholeSource(10_000)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		file, err := source.NewSet().Add("main.knot", []byte(text))
		must(err)
		syntax.Parse(file)
	}
}
