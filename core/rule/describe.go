package rule

import (
	"strings"

	"knothole/core/check"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/syntax"
)

// DeclaredIn returns the path of the module that a rule is declared in.
func (r *Rule) DeclaredIn() string { return r.Object.Module.Path }

// Looks says in the words of the rule which documents it looks at.
func (r *Rule) Looks() string {
	return looks(r.Object.Declaration.(*syntax.Rule), r.Object.Module.Tree.File.Slice)
}

func looks(d *syntax.Rule, slice func(source.Span) string) string {
	if d.All {
		return "all documents together"
	}
	text := "documents"
	if d.At != nil {
		text += " at " + slice(d.At.Place())
	}
	if d.Where != nil {
		text += " where " + strings.Join(strings.Fields(slice(d.Where.Place())), " ")
	}
	if d.At == nil && d.Where == nil {
		return "all documents, one by one"
	}
	return text
}

// Text returns the rule as it is written.
func (r *Rule) Text() string {
	return r.Object.Module.Tree.File.Slice(r.Object.Declaration.Declared().Span)
}

// Given is an input of the module of a rule, and its value as it is written.
type Given struct {
	Object *check.Object
	Text   string // of the project file or, when Default, of the module; empty for none
	// Default says that the project file gives none.
	Default bool
}

// Inputs returns the inputs that a rule needs, with their values; none for a rule of the main module, whose inputs
// have another value in each environment.
func (r *Rule) Inputs() (all []Given) {
	if r.Module == nil {
		return nil
	}
	for _, o := range check.InputsOf(r.Object) {
		g := Given{Object: o, Default: true}
		if !r.Module.Inputs.IsAbsent() && !r.Module.Inputs.Get(o.Name).IsAbsent() {
			g.Text, g.Default = r.Module.Inputs.Get(o.Name).Show(80), false
		} else if d := o.Declaration.(*syntax.Input); d.Default != nil {
			g.Text = o.Module.Tree.File.Slice(d.Default.Place())
		}
		all = append(all, g)
	}
	return all
}

// Example is a document that a test gives to a rule.
type Example struct {
	At      source.Span // of the expectation
	Test    string      // its title
	Text    string      // the call of the rule, as it is written
	Refused string      // what the violation says, as it is written; empty when it is allowed
}

// Examples returns what the tests of a project give to a rule.
func (r *Rule) Examples(p *project.Project) (all []Example) {
	for _, m := range p.Modules() {
		for _, o := range m.Order {
			test, ok := o.Declaration.(*syntax.Test)
			if !ok {
				continue
			}
			syntax.Inspect(test, func(n syntax.Node) bool {
				d, ok := n.(*syntax.Expect)
				if !ok || !d.Violation {
					return true
				}
				call, ok := syntax.Bare(d.From).(*syntax.Call)
				if ok && m.Info.Objects[call.ID()] == r.Object {
					slice := m.Tree.File.Slice
					e := Example{At: d.Span, Test: test.Title, Text: slice(d.From.Place())}
					if d.Mistake != nil {
						e.Refused = slice(d.Mistake.Place())
					}
					all = append(all, e)
				}
				return false
			})
		}
	}
	return all
}
