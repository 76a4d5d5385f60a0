package main

import "testing"

// TestProgramsAgree holds that what is measured side by side is the same work.
func TestProgramsAgree(t *testing.T) {
	for _, p := range programs {
		run, end := p.loadLua()
		if ours, theirs := p.load()(), run(); ours != theirs {
			t.Errorf("%s: %s is not %s", p.title, ours, theirs)
		}
		end()
	}
}

func BenchmarkEvaluate(b *testing.B) {
	for _, p := range programs {
		b.Run(p.title, func(b *testing.B) {
			run := p.load()
			for b.Loop() {
				run()
			}
		})
	}
}
