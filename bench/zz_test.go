package main

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"knothole/core/builtin"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/rule"
)

const count = 50
func BenchmarkOwn(b *testing.B) {
	folder := b.TempDir()
	writeFleet(folder, fleetServices)
	text, _ := os.ReadFile(filepath.Join(folder, "knothole.toml"))
	os.WriteFile(filepath.Join(folder, "knothole.toml"), []byte(string(text)+"\n[[rules]]\nmodule = \"own.knot\"\n"), 0o644)
	os.WriteFile(filepath.Join(folder, "own.knot"), []byte(ownRules(count)), 0o644)
	p, err := project.Load(os.DirFS(folder))
	if err != nil || p.Findings.HasErrors() {
		b.Fatal(err)
	}
	results, _ := render.All(p, p.Concrete(), render.Options{})
	b.ReportAllocs()
	for b.Loop() {
		held := rule.Hold(p, results, rule.Options{Today: time.Now(), Builtins: builtin.Table, Whole: true})
		if len(held.Findings) > 0 {
			fmt.Println("?")
		}
	}
}
func BenchmarkEval(b *testing.B) {
	folder := b.TempDir()
	writeFleet(folder, fleetServices)
	p, err := project.Load(os.DirFS(folder))
	if err != nil || p.Findings.HasErrors() {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		render.All(p, p.Concrete(), render.Options{})
	}
}
