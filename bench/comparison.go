package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"knothole/core/compare"
	"knothole/core/project"
	"knothole/core/render"
)

// comparedRounds is how often each way runs; they take turns.
const comparedRounds = 15

// timed is something that is measured, and how long it took in each round.
type timed struct {
	name  string
	run   func() error
	times []time.Duration
}

// takeTurns runs what is measured in turns, first once to warm up.
func takeTurns(all ...*timed) error {
	for round := range comparedRounds + 1 {
		for _, t := range all {
			start := time.Now()
			if err := t.run(); err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
			if round > 0 {
				t.times = append(t.times, time.Since(start))
			}
		}
	}
	return nil
}

func (t *timed) median() time.Duration { return measured{times: t.times}.median() }

func (t *timed) print(base *timed) {
	fmt.Printf("%-46s %9.1f ms", t.name, milliseconds(t.median()))
	if base != nil {
		fmt.Printf("   %.2f of %s", float64(t.median())/float64(base.median()), base.name)
	}
	fmt.Println()
}

// differs runs a program that ends with 1 when it finds differences, as it must.
func differs(c *exec.Cmd) error {
	var errs bytes.Buffer
	c.Stderr = &errs
	var ended *exec.ExitError
	if err := c.Run(); !errors.As(err, &ended) || ended.ExitCode() != 1 {
		return fmt.Errorf("it did not find what differs: %v %s", err, errs.String())
	}
	return nil
}

// fewDiffer makes of the fleet one in which the environments first and second have the same values, but for a few
// services.
func fewDiffer(folder string) error {
	text := fleetTemplate
	for _, change := range [][2]string{
		{"input domain: string", "input late: [string] = []\ninput domain: string"},
		{`match env.name { "north" | "south" | "east" -> env.name, else -> "none" }`, `"none"`},
		{"replicas: if s.public", "replicas: if s.name in late then 9 else if s.public"},
	} {
		if !strings.Contains(text, change[0]) {
			return fmt.Errorf("the fleet is written otherwise: there is no %q", change[0])
		}
		text = strings.Replace(text, change[0], change[1], 1)
	}
	var late []string
	for i := 0; i < fleetServices; i += fleetServices / 12 {
		late = append(late, fmt.Sprintf("%q", fmt.Sprintf("gauge-%03d", i)))
	}
	values := `"domain": "floodwatch.example", "version": "4.0.0", "level": "info", "replicas": 2`
	for name, content := range map[string]string{"main.knot": text,
		"first.json":  "{" + values + "}",
		"second.json": "{" + values + `, "late": [` + strings.Join(late, ", ") + "]}",
		"knothole.toml": "[project]\nname = \"fleet\"\n[environments.first]\nlayers = [\"first.json\"]\n" +
			"[environments.second]\nlayers = [\"second.json\"]\n"} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(content), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// comparisons measures comparing beside rendering, and comparing directories beside the program diff.
func comparisons() error {
	work, err := os.MkdirTemp("", "comparison-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	knothole := filepath.Join(work, "knothole")
	build := exec.Command("go", "build", "-o", knothole, ".")
	build.Dir, build.Env = "../cmd/knothole", append(os.Environ(), "CGO_ENABLED=0")
	if text, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("%w\n%s", err, text)
	}
	fmt.Printf("\ncomparing two environments of %d documents each; median of %d\n", 6*fleetServices, comparedRounds)
	for _, of := range []struct {
		title, left, right string
		few                bool
	}{{"all differ", "north", "south", false}, {"1 % differ", "first", "second", true}} {
		folder := filepath.Join(work, strings.ReplaceAll(of.title, " ", "-"))
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return err
		}
		if err := writeFleet(folder, fleetServices); err != nil {
			return err
		}
		if of.few {
			if err := fewDiffer(folder); err != nil {
				return err
			}
		}
		out := filepath.Join(work, "out")
		rendering := &timed{name: "render, cold", run: func() error {
			if err := os.RemoveAll(out); err != nil {
				return err
			}
			c := exec.Command(knothole, "render", of.left, of.right, "--project", folder, "--quiet", "--to", out)
			c.Env = append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(out, "cache"))
			return c.Run()
		}}
		comparing := &timed{name: "diff, " + of.title, run: func() error {
			return differs(exec.Command(knothole, "diff", of.left, of.right, "--project", folder, "--quiet"))
		}}
		if err := takeTurns(rendering, comparing); err != nil {
			return err
		}
		rendering.print(nil)
		comparing.print(rendering)
		if err := causes(folder, of.left, of.right); err != nil {
			return err
		}
		if !of.few {
			if err := folders(knothole, filepath.Join(out, of.left), filepath.Join(out, of.right)); err != nil {
				return err
			}
		}
	}
	return nil
}

// causes measures what it takes to find the causes, beside comparing without them: both in this process, of a project
// that is loaded anew each time.
func causes(folder, left, right string) error {
	load := func() (*project.Project, []*project.Run, error) {
		p, err := project.Load(os.DirFS(folder))
		if err != nil {
			return nil, nil, err
		}
		return p, []*project.Run{p.RunNamed(left), p.RunNamed(right)}, nil
	}
	without := &timed{name: "compared without causes", run: func() error {
		p, runs, err := load()
		if err != nil {
			return err
		}
		results, findings, _ := render.All(p, runs, render.Options{})
		if findings.HasErrors() {
			return errors.New(findings[0].Message)
		}
		var sides []compare.Side
		for _, r := range results {
			sides = append(sides, compare.Rendered(r, compare.Options{}))
		}
		if c, err := compare.Compared(context.Background(), sides); err != nil || c.Equal() {
			return errors.New("nothing differs")
		}
		return nil
	}}
	with := &timed{name: "compared with causes", run: func() error {
		p, runs, err := load()
		if err != nil {
			return err
		}
		c, findings, _ := compare.Environments(p, runs, compare.Options{})
		if c == nil || c.Equal() || findings.HasErrors() {
			return errors.New("nothing was compared, or nothing differs")
		}
		return nil
	}}
	if err := takeTurns(without, with); err != nil {
		return err
	}
	without.print(nil)
	with.print(without)
	return nil
}

// directories measures comparing two directories beside the program diff, which compares their bytes, and decoding them
// once.
func folders(knothole, left, right string) error {
	if _, err := exec.LookPath("diff"); err != nil {
		fmt.Println("directories: not measured, since there is no program diff here")
		return nil
	}
	plain := &timed{name: "diff -r, and decoding once", run: func() error {
		if err := differs(exec.Command("diff", "-r", left, right)); err != nil {
			return err
		}
		for _, folder := range []string{left, right} {
			if all, _, err := readFleet(folder); err != nil || len(all) == 0 {
				return errors.Join(err, errors.New("nothing was read"))
			}
		}
		return nil
	}}
	ours := &timed{name: "two directories", run: func() error {
		return differs(exec.Command(knothole, "diff", left, right, "--quiet"))
	}}
	if err := takeTurns(plain, ours); err != nil {
		return err
	}
	plain.print(nil)
	ours.print(plain)
	return nil
}
