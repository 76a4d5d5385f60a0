package check

import (
	"cmp"
	"fmt"
	"slices"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// checker checks one module at a time.
type checker struct {
	program  *Program
	universe *types.Universe
	module   *Module
	findings *source.Findings

	// The declaration being checked.
	owner *Object
	scope *scope
	facts *facts
	// lost is true for an argument of an unknown function, whose parameters therefore have no types.
	lost bool
	// spender is the declaration whose types are counted, before the count at its start, and spent whether the limit is
	// exceeded.
	spender *Object
	before  int64
	spent   bool
	// assumed is what follows from conditions in the one that is looked at.
	assumed map[assumption][]*facts
	it      *Object
	// lenient is the local value whose absent fields give null in the current condition.
	lenient *Object
	// patching is the current patch.
	patching *patching
	// arguments are those of the current instance: each is evaluated for itself.
	arguments syntax.Expression
	// lazy is more than 0 in the arguments of an instance, which are evaluated when the inputs are needed.
	lazy int
	// called is the function that is called after a name that is not known: "join" of strings.join(…).
	called string
	// guards counts the lists, maps and so on that the current type is written in, through all names.
	guards int
	// needs are the conditions whose independence of inputs is checked when all declarations are known.
	needs []*Condition
	// types counts declared types still being resolved; waiting are the checks that need them whole.
	types   int
	waiting []func()
	// suggestions are those for all names that are wrong.
	suggestions source.Suggestions
}

// Check checks the modules of a program and fills in what is known about them. Modules that are used come before those
// that use them. Those that were checked for another program of the same store are not checked again.
func Check(program *Program) source.Findings {
	var findings source.Findings
	c := &checker{program: program, universe: program.Universe, findings: &findings}
	for _, m := range program.Modules {
		if m.checked {
			findings = append(findings, m.Findings...)
			continue
		}
		if program.Cancelled != nil && program.Cancelled() {
			return findings
		}
		c.checkModule(m)
		m.checked = true
	}
	c.reportNotRendered()
	return findings
}

func (c *checker) report(code source.Code, span source.Span, help, format string, arguments ...any) {
	c.add(source.Finding{Code: code, Span: span, Message: fmt.Sprintf(format, arguments...), Help: help})
}

func (c *checker) add(f source.Finding) {
	if c.owner != nil && f.Severity == source.Error {
		c.owner.Invalid = true
	}
	c.findings.Add(f)
}

// addWith adds a finding with a help that says more than its own; "" leaves that.
func (c *checker) addWith(help string, f source.Finding) {
	f.Help = cmp.Or(help, f.Help)
	c.add(f)
}

func (c *checker) warn(code source.Code, span source.Span, help, format string, arguments ...any) {
	c.add(source.Finding{Code: code, Severity: source.Warning, Span: span, Message: fmt.Sprintf(format, arguments...),
		Help: help})
}

// see makes the related place of an object: where it is declared, and its description.
func see(o *Object) []source.Related {
	if o == nil || !o.Span.IsValid() {
		return nil
	}
	return []source.Related{{Span: o.Span, Text: o.Summary()}}
}

func (c *checker) checkModule(m *Module) {
	c.module = m
	c.needs = nil
	found := len(*c.findings)
	m.Number = len(c.program.modules)
	c.program.modules = append(c.program.modules, m)
	m.Objects, m.instantiates = map[string]*Object{}, map[*Module]bool{}
	m.Info = Info{
		Types:   make([]types.Type, m.Tree.Expressions),
		Objects: make([]*Object, m.Tree.Expressions),
		Targets: make([]types.Type, m.Tree.Expressions),
		Asked:   map[syntax.ID]types.Type{},
		Lenient: map[syntax.ID]bool{},
		Locals:  map[source.Pos]*Object{},
	}
	for _, d := range m.Tree.Declarations {
		c.declare(d)
	}
	for _, o := range m.Order {
		c.resolve(o)
	}
	objects := c.withConditions()
	propagate(objects, components(objects, true))
	c.reportCycles(objects, components(objects, false))
	c.reportEmpty()
	for _, condition := range c.needs {
		c.checkIndependence(condition)
	}
	for _, o := range m.Order {
		c.checkTestNeeds(o)
	}
	c.reportUnused()
	m.Info.order()
	c.makeInputsType(m)
	m.Findings = slices.Clone((*c.findings)[found:])
}

// reportNotRendered warns of what the modules that the main module reaches hold for rendering, when nothing makes an
// instance of them.
func (c *checker) reportNotRendered() {
	reached := map[*Module]bool{}
	var reach func(m *Module)
	reach = func(m *Module) {
		if m == nil || reached[m] {
			return
		}
		reached[m] = true
		for _, imported := range m.Imports {
			reach(imported.Module)
		}
	}
	for _, m := range c.program.Modules {
		if m.Main {
			reach(m)
		}
	}
	c.owner = nil
	instantiated := map[*Module]bool{}
	for _, m := range c.program.Modules {
		for other := range m.instantiates {
			instantiated[other] = true
		}
	}
	for _, m := range c.program.Modules {
		if m.Main || m.Enforced || instantiated[m] || !reached[m] {
			continue
		}
		for _, o := range m.Order {
			help := fmt.Sprintf("make an instance and include it: include %s(…)", m.shortName())
			switch words := ContentsOf(o.Declaration); {
			case o.Invalid:
			case words.Rendered != "":
				c.warn(source.NotRendered, source.At(o.Declaration.Declared().Span.Start), help,
					"this %s goes nowhere: nothing makes an instance of %s", words.Rendered, m.Path)
			case words.Requires && o.NeedsInput:
				c.warn(source.NotRendered, source.At(o.Declaration.Declared().Span.Start), help,
					"this requirement is never tested: nothing makes an instance of %s", m.Path)
			}
		}
	}
}

func (c *checker) checkIndependence(condition *Condition) {
	if condition.Object.Invalid {
		return
	}
	for _, r := range condition.Object.Uses {
		what := "inputs"
		if !r.Object.NeedsInput {
			what = "the environment"
		}
		if r.Object.NeedsInput || r.Object.NeedsEnvironment {
			c.add(source.Finding{
				Code: source.ConditionDepends, Span: r.Span,
				Message: fmt.Sprintf("a condition means the same everywhere, but %q depends on %s", r.Object.Name,
					what),
				Help: "use it, constants and built-in functions only", Related: see(r.Object),
			})
			condition.Object.Invalid = true
		}
	}
	if condition.Object.NeedsEnvironment &&
		!slices.ContainsFunc(condition.Object.Uses, func(r Reference) bool {
			return r.Object.NeedsEnvironment ||
				r.Object.NeedsInput
		}) {
		c.report(source.ConditionDepends, condition.Tree.Test.Place(),
			"use it, constants and built-in functions only",
			"a condition means the same everywhere, but this one reads env")
		condition.Object.Invalid = true
	}
}

func count(n int, word string) string {
	switch n {
	case 0:
		return "no " + word + "s"
	case 1:
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}
