package check

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// checkRule checks a rule: which documents it looks at, and what it requires of them.
func (c *checker) checkRule(d *syntax.Rule) {
	outer := c.scope
	document := types.Type(types.Any)
	if d.All {
		document = c.seenDocuments()
	}
	o := c.bind(d.Document, document)
	o.used = o.used || d.All
	if d.Path.Name != "" {
		c.bind(d.Path, types.String)
	}
	if d.At != nil {
		c.check(d.At, types.String, "a pattern of paths")
	}
	if d.Where != nil {
		lenient := c.lenient
		c.lenient = o
		c.check(d.Where, types.Bool, "a condition")
		c.lenient = lenient
		c.assume(d.Where, true)
	}
	c.checkBlock(d.Body)
	if !holds[*syntax.Require](d.Body) {
		c.warn(source.NoExpectation, d.Name.Span, "write require and what must hold",
			"the rule %q requires nothing, so nothing can violate it", d.Name.Name)
	}
	c.unbind(outer, d.Span.End)
}

// seenDocuments is the type of the documents that a rule sees together.
func (c *checker) seenDocuments() types.Type {
	return c.universe.List(c.universe.Record([]types.Field{
		{Name: "path", Type: types.String},
		{Name: "data", Type: types.Any},
	}, nil))
}

// holds reports whether a declaration of a kind is in a block, however deep.
func holds[D syntax.Declaration](block []syntax.Declaration) bool {
	found := false
	for _, d := range block {
		syntax.Inspect(d, func(n syntax.Node) bool {
			_, is := n.(D)
			found = found || is
			return !found
		})
	}
	return found
}

// ruleNotCalled reports a rule that is used like a value or a function.
func (c *checker) ruleNotCalled(at source.Span, o *Object) {
	c.add(source.Finding{Code: source.WrongUse, Span: at, Related: see(o),
		Message: fmt.Sprintf("%q is a rule, not a value or a function", o.Name),
		Help:    fmt.Sprintf(`a test calls it: expect violation "…" from %s(document)`, o.Name)})
}

// checkRuleCall checks `rule(document, path: …, input: …)`, of which a test expects a violation, or none.
func (c *checker) checkRuleCall(e syntax.Expression) {
	call, ok := syntax.Bare(e).(*syntax.Call)
	if !ok {
		c.report(source.WrongUse, e.Place(), `write: expect violation "…" from name(document)`,
			"a violation is expected from the call of a rule")
		return
	}
	rule, given := c.calledRule(call.Function)
	if rule == nil {
		for _, a := range call.Arguments {
			c.infer(a.Value, nil)
		}
		return
	}
	c.module.Info.Objects[call.ID()] = rule
	d := rule.Declaration.(*syntax.Rule)
	document, what := types.Type(types.Any), "the document that a rule looks at"
	if d.All {
		what = "what the rule looks at"
		document = c.universe.List(c.universe.Record([]types.Field{
			{Name: "path", Type: types.String, Optional: true},
			{Name: "data", Type: types.Any},
		}, nil))
	}
	named := map[string]bool{}
	for i, a := range call.Arguments {
		switch {
		case a.Spread:
			c.report(source.WrongArguments, a.Value.Place(), "write the arguments out",
				"nothing is spread into a rule")
			c.infer(a.Value, nil)
		case i == 0 && a.Name.Name == "":
			c.check(a.Value, document, what)
			c.checkData(c.module.Info.Types[a.Value.ID()], a.Value, "a document")
		case a.Name.Name == "":
			c.report(source.WrongArguments, a.Value.Place(), "write the name of the input before it: name: value",
				"a rule looks at one document; what comes after it is given by name")
			c.infer(a.Value, nil)
		case named[a.Name.Name]:
			c.report(source.WrongArguments, a.Name.Span, "leave one out", "%q is given twice", a.Name.Name)
			c.infer(a.Value, nil)
		default:
			named[a.Name.Name] = true
			c.ruleArgument(a, rule, given)
		}
	}
	if len(call.Arguments) == 0 || call.Arguments[0].Name.Name != "" {
		c.report(source.WrongArguments, call.Function.Place(), "put it into the parentheses",
			"the rule %q needs a document to look at", rule.Name)
	}
	if d.Path.Name != "" && !named["path"] {
		c.report(source.WrongArguments, call.Function.Place(), `add path: "k8s/…"`,
			"the rule %q also looks at the path of the document", rule.Name)
	}
	if given || rule.Module.Main {
		return
	}
	for _, input := range InputsOf(rule) {
		if input.Declaration.(*syntax.Input).Default == nil && !named[input.Name] {
			c.add(source.Finding{Code: source.WrongArguments, Span: call.Function.Place(), Related: see(input),
				Message: fmt.Sprintf("the rule %q needs the input %q (%s)", rule.Name, input.Name, input.Type),
				Help:    fmt.Sprintf("add it after the document: %s: …", input.Name)})
		}
	}
}

// ruleArgument checks what is given to a rule by name: the path of the document, or an input of the module of the
// rule, of which the test then makes an instance. Given says that there is an instance already.
func (c *checker) ruleArgument(a *syntax.Argument, rule *Object, given bool) {
	d := rule.Declaration.(*syntax.Rule)
	if a.Name.Name == "path" && !d.All {
		c.check(a.Value, types.String, "the path of a document")
		return
	}
	input := rule.Module.Objects[a.Name.Name]
	if input == nil || input.Kind != ObjectInput || given || rule.Module.Main {
		var candidates []string
		if !d.All {
			candidates = append(candidates, "path")
		}
		if !given && !rule.Module.Main {
			for _, o := range rule.Module.Order {
				if o.Kind == ObjectInput {
					candidates = append(candidates, o.Name)
				}
			}
		}
		help := "leave it out"
		if len(candidates) > 0 {
			help = c.suggestions.Suggest(a.Name.Name, candidates, "it takes "+strings.Join(candidates, ", "))
		}
		message := fmt.Sprintf("the module of the rule %q has no input %q", rule.Name, a.Name.Name)
		if given || rule.Module.Main {
			message = fmt.Sprintf("the inputs of the rule %q have their values already: it takes no %q", rule.Name,
				a.Name.Name)
		}
		c.add(source.Finding{Code: source.WrongArguments, Span: a.Name.Span, Message: message, Help: help,
			Related: see(rule)})
		c.infer(a.Value, nil)
		return
	}
	c.note(a.Name.Span, input)
	c.check(a.Value, input.Type, fmt.Sprintf("the input %q", input.Name))
}

// calledRule finds the rule that is called: of this module, of one that is used, or of an instance, whose inputs are
// given. It is nil when there is none, which is reported.
func (c *checker) calledRule(e syntax.Expression) (rule *Object, given bool) {
	var o *Object
	switch e := e.(type) {
	case *syntax.Name:
		if o = c.module.Objects[e.Name]; o != nil && o.Kind == ObjectRule && !c.local(e.Name) {
			c.note(e.Place(), o)
			c.owner.Uses = append(c.owner.Uses, Reference{Object: o, Span: e.Place(), Made: !c.module.Main})
			c.resolve(o)
		} else if o = c.lookup(e.Name, e.Place()); o == nil {
			return nil, false
		}
	case *syntax.Field:
		name, ok := e.Of.(*syntax.Name)
		if alias, isModule := c.component(e.Of); ok && isModule {
			c.use(alias, name.Place())
			if alias.Invalid || alias.Imported() == nil {
				c.owner.Invalid = true
				return nil, false
			}
			if o = c.ruleMember(e, alias.Imported()); o == nil {
				return nil, false
			}
			break
		}
		t := c.infer(e.Of, nil)
		if t == types.Invalid {
			return nil, false
		}
		if instance := types.AsInstance(t); instance != nil {
			if o = c.ruleMember(e, c.program.Module(instance.Module)); o == nil {
				return nil, false
			}
			given = true
			c.module.Info.Objects[e.ID()] = o
		}
	}
	if o == nil || o.Kind != ObjectRule {
		what := "this is not a rule"
		if o != nil {
			what = fmt.Sprintf("%q is not a rule, but %s", o.Name, source.Article(o.Kind.String()))
		}
		c.add(source.Finding{Code: source.WrongUse, Span: e.Place(), Message: what, Related: see(o),
			Help: `write: expect violation "…" from name(document), with the name of a rule`})
		return nil, false
	}
	if o.Invalid {
		c.owner.Invalid = true
	}
	return o, given
}

// ruleMember finds a rule of another module.
func (c *checker) ruleMember(e *syntax.Field, m *Module) *Object {
	o := m.Objects[e.Name.Name]
	if o != nil && o.Kind == ObjectRule {
		c.note(e.Name.Span, o)
		c.owner.Uses = append(c.owner.Uses, Reference{Object: o, Span: e.Place(), Made: true})
		return o
	}
	var rules []string
	for _, other := range m.Order {
		if other.Kind == ObjectRule {
			rules = append(rules, other.Name)
		}
	}
	help := "it has no rules"
	if len(rules) > 0 {
		help = c.suggestions.Suggest(e.Name.Name, rules, "its rules are "+strings.Join(rules, ", "))
	}
	c.add(source.Finding{Code: source.UnknownName, Span: e.Name.Span, Help: help, Related: see(o),
		Message: fmt.Sprintf("%s has no rule %q", m.Path, e.Name.Name)})
	return nil
}

// InputsOf returns the inputs that a declaration needs, directly or through others, as they are declared.
func InputsOf(o *Object) []*Object {
	seen := map[*Object]bool{}
	var visit func(o *Object)
	visit = func(o *Object) {
		if seen[o] || o.Module == nil {
			return
		}
		seen[o] = true
		for _, r := range o.Uses {
			if r.Object.NeedsInput || r.Object.Kind == ObjectInput {
				visit(r.Object)
			}
		}
	}
	visit(o)
	return slices.DeleteFunc(slices.Clone(o.Module.Order), func(x *Object) bool {
		return x.Kind != ObjectInput || !seen[x]
	})
}

// Rules returns the rules of a module, as they are declared.
func (m *Module) Rules() []*Object {
	var rules []*Object
	for _, o := range m.Order {
		if o.Kind == ObjectRule && m.Objects[o.Name] == o {
			rules = append(rules, o)
		}
	}
	return rules
}
