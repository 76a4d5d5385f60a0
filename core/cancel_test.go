package core_test

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/compare"
	"knothole/core/eval"
	"knothole/core/explain"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/verify"
)

// countdown is a context that is cancelled when it has been asked so often whether it is.
type countdown struct {
	context.Context
	mu   sync.Mutex
	left int
	done chan struct{}
}

func newCountdown(n int) *countdown {
	return &countdown{Context: context.Background(), left: n, done: make(chan struct{})}
}

// ask counts, and reports whether the context is cancelled.
func (c *countdown) ask() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.left--; c.left == 0 {
		close(c.done)
	}
	return c.left <= 0
}

func (c *countdown) Done() <-chan struct{} {
	c.ask()
	return c.done
}

func (c *countdown) Err() error {
	if c.ask() {
		return context.Canceled
	}
	return nil
}

// answers are what is asked of a project that takes long, with the answers as texts.
var answers = map[string]func(p *project.Project) (string, error){
	"verify": func(p *project.Project) (string, error) {
		documents := 0
		out, err := verify.Project(p, p.Runs(p.Concrete()), verify.Options{
			Options: render.Options{Everything: true, Validate: true}, Rules: true, Parity: true,
			Builtins: builtin.Table},
			func(r *render.Result) error { documents += len(r.Documents); return nil })
		if err != nil {
			return "", err
		}
		return fmt.Sprint(documents, out.Findings(), out.Validation), nil
	},
	"environments": func(p *project.Project) (string, error) {
		c, found, err := compare.Environments(p, p.Runs(p.Concrete()), compare.Options{})
		return fmt.Sprint(describeComparison(c), found), err
	},
	"revisions": func(p *project.Project) (string, error) {
		name, files := p.Concrete()[0].Name, map[string][]byte{}
		for _, f := range p.Files() { // before, a number was another
			text := []byte(f.Text)
			if f.Path == "main.knot" {
				text = bytes.Replace(text, []byte("1"), []byte("2"), 1)
			}
			files[f.Path] = text
		}
		before, err := project.Load(memory(files))
		if err != nil {
			return "", err
		}
		c, found, err := compare.Revisions([2]compare.Revision{{Name: "before", Project: before, Environment: name},
			{Name: "after", Project: p, Environment: name}}, compare.Options{}, memory)
		return fmt.Sprint(describeComparison(c), found), err
	},
	"why": func(p *project.Project) (string, error) {
		runs := p.Runs(p.Concrete())
		results, found, err := render.All(p, runs[:1], render.Options{})
		if err != nil || found.HasErrors() || len(results[0].Documents) == 0 {
			return fmt.Sprint(found), err
		}
		document := results[0].Documents[0].Path
		path, err := eval.ParsePlaces(".*", builtin.Table)
		if err != nil {
			return "", err
		}
		why, found, err := explain.Value(runs[0], document, explain.Asked{Path: path})
		if err != nil || why == nil {
			return fmt.Sprint(found), err
		}
		others, err := compare.Others(p, runs[0], runs[1:], document, why.Path, 0)
		var b strings.Builder
		for _, o := range others {
			fmt.Fprintln(&b, o.Environment, o.Differs, o.Cause.Because)
		}
		return fmt.Sprint(why.Path, len(why.Events), len(why.Inputs), b.String()), err
	},
	"tests": func(p *project.Project) (string, error) {
		results, err := p.Tests(nil, func(string) bool { return true })
		return fmt.Sprint(results), err
	},
}

func describeComparison(c *compare.Comparison) string {
	var b strings.Builder
	if c == nil {
		return "none"
	}
	for _, d := range c.Documents {
		fmt.Fprintln(&b, d.Path, d.Status, d.Cause.Because)
		for _, r := range d.Rows {
			fmt.Fprintln(&b, " ", r.Path, r.Kind, r.Cause.Because, r.Cause.Tried)
		}
	}
	return b.String()
}

// endsWhole checks that, whenever the context of a project is cancelled while it is loaded or asked, an answer about it
// is complete or the error of the context.
func endsWhole(t *testing.T, files fs.FS, name string, moments int) (cancelled int) {
	t.Helper()
	answer := func(moment *countdown) (string, error) {
		p, err := project.LoadWith(files, project.Loading{Rules: true, Context: moment})
		if err != nil {
			return "", err
		}
		return answers[name](p)
	}
	const never = 1 << 40
	whole := newCountdown(never)
	want, wrong := answer(whole)
	asked := never - whole.left
	for range moments {
		n := 1 + rand.IntN(asked+1)
		got, err := answer(newCountdown(n))
		if err == nil || wrong != nil && err.Error() == wrong.Error() {
			require.Equal(t, want, got, "%s, cancelled after %d of %d", name, n, asked)
			continue
		}
		require.ErrorIs(t, err, context.Canceled, "%s, cancelled after %d of %d", name, n, asked)
		cancelled++
	}
	return cancelled
}

// TestCancelled asks for each answer about the demo and random projects, and cancels.
func TestCancelled(t *testing.T) {
	moments, seeds := 24, uint64(12)
	if testing.Short() {
		moments, seeds = 4, 4
	}
	for name := range answers {
		t.Run(name, func(t *testing.T) {
			cancelled := endsWhole(t, os.DirFS("../demo/project"), name, moments)
			for seed := range seeds {
				c := newCoasts(t, seed)
				files := c.files(t, c.written)
				cancelled += endsWhole(t, files, name, moments/4)
			}
			if name != "tests" { // which are few
				require.Greater(t, cancelled, moments/2)
			}
		})
	}
}
