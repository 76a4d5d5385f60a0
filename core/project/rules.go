package project

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/standard"
	"knothole/core/syntax"
	"knothole/core/value"
)

// RuleModule is a module whose rules are in force: an entry of [[rules]].
type RuleModule struct {
	Path         string
	Module       *check.Module // nil when it could not be read
	Environments []string      // in which they are held; empty for all
	Span         source.Span   // of the path of the module
	Inputs       value.Value   // a record of what its inputs are; Absent when nothing is given
	// Broken says that something is wrong with what is given, so that its rules cannot be held.
	Broken bool

	only, without []value.Value // names of rules
}

// Holds reports whether the rules are held in an environment.
func (m *RuleModule) Holds(environment string) bool {
	return len(m.Environments) == 0 || slices.Contains(m.Environments, environment)
}

// Rules returns the rules of the module that are in force, as they are declared.
func (m *RuleModule) Rules() []*check.Object {
	named := func(names []value.Value, o *check.Object) bool {
		return slices.ContainsFunc(names, func(v value.Value) bool { return v.Text() == o.Name })
	}
	if m.Module == nil {
		return nil
	}
	return slices.DeleteFunc(m.Module.Rules(), func(o *check.Object) bool {
		return len(m.only) > 0 && !named(m.only, o) || named(m.without, o)
	})
}

// Exemption says that some documents need not meet a rule for some time: an entry of [[exemptions]].
type Exemption struct {
	Rule         string
	Documents    string   // a pattern of their paths; empty for all
	At           string   // a place in them; empty for all of them
	Environments []string // in which it holds; empty for all
	Reason       string
	Until        time.Time // the last day on which it holds, in UTC

	Span, RuleSpan, AtSpan, UntilSpan source.Span
}

// dateForm is how a day is written (RFC 3339 full-date).
const dateForm = time.DateOnly

// Rules returns the modules whose rules are in force, in the order of the project file.
func (p *Project) Rules() []*RuleModule { return p.rules }

// Exemptions returns the exemptions from rules, in the order of the project file.
func (p *Project) Exemptions() []*Exemption { return p.exemptions }

func (p *Project) warn(code source.Code, span source.Span, help, format string, arguments ...any) {
	p.Findings.Add(source.Finding{Code: code, Severity: source.Warning, Span: span, Help: help,
		Message: fmt.Sprintf(format, arguments...)})
}

// tables calls read for each table of an array of tables.
func (c *configuration) tables(key string, read func(c *configuration)) {
	list, ok := c.get(key, value.List)
	if !ok {
		return
	}
	for _, table := range list.Elements() {
		if table.Kind() != value.Record {
			c.report(source.WrongType, source.At(table.Origin().Pos()), "write a table: [["+key+"]]",
				"an entry of %s is a table, not %s", key, table.Show(40))
			continue
		}
		read(&configuration{c.Project, "[[" + key + "]]", table})
	}
}

// environmentsOf reads the names of environments that are rendered; ok is false when one of them is none.
func (c *configuration) environmentsOf(key string) (names []string, ok bool) {
	ok = true
	for _, v := range c.texts(key, "names of environments") {
		if e := c.Environment(v.Text()); e == nil || e.Abstract {
			c.report(source.UnknownEnvironment, source.At(v.Origin().Pos()),
				source.Suggest(v.Text(), c.concreteNames(), "environments are "+source.Quoted(c.concreteNames())),
				"there is no environment %q that is rendered", v.Text())
			ok = false
			continue
		}
		names = append(names, v.Text())
	}
	return names, ok
}

// required returns a string that an entry must have.
func (c *configuration) required(key, example, what string) (v value.Value, ok bool) {
	v, ok = c.get(key, value.String)
	if v.IsAbsent() {
		c.report(source.MissingField, c.keyOf(c.table), "write: "+example, "an entry of %s %s", c.name, what)
	}
	return v, ok
}

// readRules reads [[rules]] and [[exemptions]] of the project file, when all environments are known.
func (p *Project) readRules(top *configuration) {
	top.tables("rules", func(c *configuration) {
		c.known("module", "inputs", "environments", "only", "without")
		module, ok := c.required("module", `module = "rules/images.knot"`, "names a module")
		environments, allThere := c.environmentsOf("environments")
		inputs, _ := c.get("inputs", value.Record)
		if !ok || !allThere {
			return
		}
		m := &RuleModule{Path: module.Text(), Span: source.At(module.Origin().Pos()), Environments: environments,
			only: c.texts("only", "names of rules"), without: c.texts("without", "names of rules")}
		if inputs.Kind() == value.Record {
			m.Inputs = inputs
		}
		if !standard.Is(m.Path) {
			if m.Path = c.inside(module, ""); m.Path == "" {
				return
			}
		}
		p.rules = append(p.rules, m)
	})
	top.tables("exemptions", func(c *configuration) {
		if e := c.exemption(); e != nil {
			p.exemptions = append(p.exemptions, e)
		}
	})
}

func (c *configuration) exemption() *Exemption {
	c.known("rule", "documents", "at", "environments", "until", "reason")
	e := &Exemption{Span: c.keyOf(c.table)}
	rule, okRule := c.required("rule", `rule = "pinned_images"`, "names the rule")
	until, okUntil := c.required("until", "until = 2027-03-31", "says when it ends")
	reason, okReason := c.required("reason", `reason = "…"`, "says why it is needed")
	environments, ok := c.environmentsOf("environments")
	documents, _ := c.get("documents", value.String)
	at, _ := c.get("at", value.String)
	if okReason && strings.TrimSpace(reason.Text()) == "" {
		c.report(source.MissingField, source.At(reason.Origin().Pos()), "say why, for who reads it when it ends",
			"the reason of an exemption is empty")
		okReason = false
	}
	if okUntil {
		day, err := time.Parse(dateForm, until.Text())
		if err != nil {
			c.report(source.WrongType, source.At(until.Origin().Pos()), "write: until = 2027-03-31",
				"an exemption ends on a day of the calendar, and %q is none", until.Text())
			okUntil = false
		}
		e.Until, e.UntilSpan = day, source.At(until.Origin().Pos())
	}
	if !okRule || !okUntil || !okReason || !ok {
		return nil
	}
	e.Rule, e.RuleSpan, e.Reason, e.Environments = rule.Text(), source.At(rule.Origin().Pos()), reason.Text(),
		environments
	if documents.Kind() == value.String {
		e.Documents = documents.Text()
	}
	if at.Kind() == value.String {
		e.At, e.AtSpan = at.Text(), source.At(at.Origin().Pos())
	}
	return e
}

// GivenText is a text that is given as the value of an input.
type GivenText struct{ Name, Text string }

// LoadRules reads modules of rules that are held without a project. Inputs are given by name to each that has such an
// input. NameOf says what messages call a file.
func LoadRules(files fs.FS, modules []string, inputs []GivenText, nameOf func(path string) string) *Project {
	p := &Project{Snapshot: newSnapshot(files, nil), Out: "rendered", SecretOut: ".knothole/secret",
		layers: map[layerKey]*Layer{}, schemas: &schemas{}}
	p.nameOf, p.checked.Schemas = nameOf, p
	p.unit("", source.Span{}) // which has no module
	l := &loader{Project: p, values: map[*syntax.Use]value.Value{}}
	for _, name := range modules {
		p.rules = append(p.rules, &RuleModule{Path: name})
	}
	l.loadRules()
	l.checkAll(func() { l.giveInputs(inputs) }, true)
	return p
}

// giveInputs gives inputs to the modules of rules.
func (l *loader) giveInputs(inputs []GivenText) {
	for _, given := range inputs {
		var names []string
		taken := false
		for _, m := range l.rules {
			if m.Module == nil {
				taken = true // it may be the one, and could not be read
				continue
			}
			o := m.Module.Objects[given.Name]
			if o == nil || o.Kind != check.ObjectInput {
				for _, other := range m.Module.Order {
					if other.Kind == check.ObjectInput {
						names = append(names, other.Name)
					}
				}
				continue
			}
			taken = true
			label := "--input " + given.Name
			file, err := l.Sources.Add(label, []byte(given.Text))
			if err != nil {
				l.report(source.TooMuchWork, source.Span{}, "", "%s", err)
				return
			}
			v, findings := readTyped(file, o.Type, l.keys)
			l.Findings = append(l.Findings, findings...)
			if findings.HasErrors() {
				m.Broken = true
				continue
			}
			var b value.Builder
			if !m.Inputs.IsAbsent() {
				for i, key := range m.Inputs.Shape().Keys() {
					b.Set(key, m.Inputs.Values()[i])
				}
			}
			b.Set(given.Name, v)
			m.Inputs = b.Record(v.Origin())
		}
		if !taken {
			otherwise := "they have none"
			if len(names) > 0 {
				otherwise = "their inputs are " + strings.Join(names, ", ")
			}
			l.report(source.UnknownInput, source.Span{}, source.Suggest(given.Name, names, otherwise),
				"no module of rules has an input %q", given.Name)
		}
	}
}

// loadRules reads the modules whose rules are in force.
func (l *loader) loadRules() {
	for _, m := range l.rules {
		switch {
		case standard.Is(m.Path):
		case !strings.HasSuffix(m.Path, ".knot"):
			l.report(source.UnknownFormat, m.Span, "modules end in .knot", "%s is not a module", m.Path)
			continue
		case l.apart(m.Path) != "":
			l.report(source.OutsideProject, m.Span, "keep rules among the sources of the project", "%s %s", m.Path,
				l.apart(m.Path))
			continue
		}
		if m.Module = l.module(m.Path, m.Span, nil); m.Module == nil {
			continue
		}
		if m.Module.Main {
			l.report(source.WrongUse, m.Span, "leave the entry out",
				"the rules of the main module are in force anyway")
			m.Module = nil
			continue
		}
	}
}

// checkRules reports what is wrong with the rules together, now that all modules are checked.
func (l *loader) checkRules() {
	for i, m := range l.rules {
		if m.Module == nil {
			continue
		}
		if len(m.Module.Rules()) == 0 && !m.Module.Findings.HasErrors() && !m.Module.Tree.Findings.HasErrors() {
			l.warn(source.Unused, m.Span, "leave the entry out, or write a rule there", "%s has no rules", m.Path)
		}
		l.checkChosen(m)
		for _, other := range l.rules[:i] {
			l.repeated(other, m)
		}
		for _, o := range m.Rules() {
			for _, main := range l.checked.Modules {
				if first := main.Objects[o.Name]; main.Main && first != nil && first.Kind == check.ObjectRule {
					l.reportTwice(first, o)
				}
			}
		}
		l.checkGiven(m)
	}
	for _, m := range l.Reached() {
		if m.Main || m.Enforced || standard.Is(m.Path) {
			continue
		}
		for _, o := range m.Rules() {
			l.warn(source.NotInForce, o.Span, `put it in force: [[rules]] module = "`+m.Path+`"`,
				"the rule %q is not enforced: its module is not in [[rules]]", o.Name)
		}
	}
}

// checkChosen reports names of rules, in only and without, that the module does not have.
func (l *loader) checkChosen(m *RuleModule) {
	var names []string
	for _, o := range m.Module.Rules() {
		names = append(names, o.Name)
	}
	for _, v := range slices.Concat(m.only, m.without) {
		if !slices.Contains(names, v.Text()) {
			l.report(source.UnknownName, source.At(v.Origin().Pos()),
				source.Suggest(v.Text(), names, "its rules are "+strings.Join(names, ", ")),
				"%s has no rule %q", m.Path, v.Text())
		}
	}
}

// Reached returns the main modules and all that they lead to, each after those that it uses.
func (p *Project) Reached() []*check.Module {
	seen := map[*check.Module]bool{}
	var reach func(from *check.Module)
	reach = func(from *check.Module) {
		if from == nil || seen[from] {
			return
		}
		seen[from] = true
		for _, imported := range from.Imports {
			reach(imported.Module)
		}
	}
	for _, m := range p.checked.Modules {
		if m.Main {
			reach(m)
		}
	}
	return slices.DeleteFunc(slices.Clone(p.checked.Modules), func(m *check.Module) bool { return !seen[m] })
}

// repeated reports rules of one name in two modules that are held in the same environment.
func (l *loader) repeated(a, b *RuleModule) {
	if a.Module == nil || len(a.Environments) > 0 && len(b.Environments) > 0 &&
		!slices.ContainsFunc(b.Environments, a.Holds) {
		return
	}
	if a.Module == b.Module && len(a.only)+len(b.only) == 0 {
		l.Findings.Add(source.Finding{Code: source.DuplicateName, Span: b.Span,
			Message: "the rules of " + b.Path + " are in force twice",
			Help:    "leave one entry out, or give both environments of their own",
			Related: []source.Related{{Span: a.Span, Text: "the first entry"}}})
		return
	}
	for _, o := range b.Rules() {
		for _, first := range a.Rules() {
			if first.Name == o.Name {
				l.reportTwice(first, o)
			}
		}
	}
}

func (l *loader) reportTwice(first, second *check.Object) {
	l.Findings.Add(source.Finding{Code: source.DuplicateName, Span: second.Span,
		Message: "two rules that are in force have the name \"" + second.Name + "\"",
		Help:    "give one of them another name: exemptions name rules by it",
		Related: []source.Related{{Span: first.Span, Text: "the first"}}})
}

// checkGiven reports inputs of a module of rules that are given and not there, or there and not given.
func (l *loader) checkGiven(m *RuleModule) {
	var names []string
	for _, o := range m.Module.Order {
		if o.Kind != check.ObjectInput || m.Module.Objects[o.Name] != o {
			continue
		}
		names = append(names, o.Name)
		d := o.Declaration.(*syntax.Input)
		if d.Secret || d.Placeholder != nil {
			l.report(source.WrongUse, m.Span, "make it a plain input: a rule may test what is secret in documents",
				"%s has the secret or later input %q, and the project file gives no such values", m.Path, o.Name)
			m.Broken = true
			continue
		}
		if !m.Inputs.IsAbsent() && !m.Inputs.Get(o.Name).IsAbsent() || d.Default != nil {
			continue
		}
		help := "give it: inputs = { " + o.Name + " = … }"
		if !m.Span.IsValid() {
			help = "give it: --input " + o.Name + "=…"
		}
		l.Findings.Add(source.Finding{Code: source.MissingInput, Span: m.Span, Help: help,
			Message: "the rules of " + m.Path + " need the input \"" + o.Name + "\" (" + o.Type.String() + ")",
			Related: []source.Related{{Span: o.Span, Text: o.Summary()}}})
		m.Broken = true
	}
	if m.Inputs.IsAbsent() {
		return
	}
	for i, name := range m.Inputs.Shape().Keys() {
		if slices.Contains(names, name) {
			continue
		}
		otherwise := "it has no inputs"
		if len(names) > 0 {
			otherwise = "its inputs are " + strings.Join(names, ", ")
		}
		l.report(source.UnknownInput, l.keyOf(m.Inputs.Values()[i]), source.Suggest(name, names, otherwise),
			"%s has no input %q", m.Path, name)
		m.Broken = true
	}
}
