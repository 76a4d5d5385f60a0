package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"knothole/core/builtin"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/rule"
	"knothole/core/standard"
)

func BenchmarkLib(b *testing.B) {
	b.Run("all", func(b *testing.B) { libBench(b, "") })
	for _, name := range standard.Names() {
		if name != "standard/pods" {
			b.Run(name, func(b *testing.B) { libBench(b, name) })
		}
	}
}

func libBench(b *testing.B, only string) {
	folder := b.TempDir()
	writeFleet(folder, fleetServices)
	text, _ := os.ReadFile(filepath.Join(folder, "knothole.toml"))
	entries := ""
	for _, name := range standard.Names() {
		if only != "" && name != only {
			continue
		}
		switch name {
		case "standard/pods":
			continue
		case "standard/labels":
			entries += "\n[[rules]]\nmodule = \"" + name + "\"\n" +
				"inputs = { required = { \"app.floodwatch.example/name\" = \"\" } }\n"
		default:
			entries += "\n[[rules]]\nmodule = \"" + name + "\"\n"
		}
		if broken := brokenRules[name]; broken != nil {
			entries += "without = [\"" + strings.Join(broken, "\", \"") + "\"]\n"
		}
	}
	os.WriteFile(filepath.Join(folder, "knothole.toml"), []byte(string(text)+entries), 0o644)
	p, err := project.Load(os.DirFS(folder))
	if err != nil || p.Findings.HasErrors() {
		b.Fatal(err)
	}
	results, _ := render.All(p, p.Concrete(), render.Options{})
	b.ReportAllocs()
	for b.Loop() {
		rule.Hold(p, results, rule.Options{Today: time.Now(), Builtins: builtin.Table, Whole: true})
	}
}
