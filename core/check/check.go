package check

import (
	"fmt"
	"slices"
	"strings"

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
	builtins map[*Builtin]*Object

	// The declaration in hand.
	owner *Object
	scope *scope
	facts *facts
	it    *Object
	// patching is the patch in hand.
	patching *patching
	// arguments are those of the instance in hand: each is evaluated for itself.
	arguments syntax.Expression
	// lazy is more than 0 in the arguments of an instance, which are evaluated when the inputs are needed.
	lazy int
	// guards counts the lists, maps and so on that the type in hand is written in, through all names.
	guards int
	// needs are the conditions whose independence of inputs is checked when all declarations are known.
	needs []*Condition
	// types counts the declared types in hand, of which not everything is known yet; waiting are the checks that need
	// them whole.
	types   int
	waiting []func()
	// suggestions are those for all names that are wrong.
	suggestions source.Suggestions
}

// scope is a chain of local names.
type scope struct {
	outer  *scope
	object *Object
}

// Check checks all modules of a program and fills in what is known about them. Modules that are used stand before
// those that use them.
func Check(program *Program) source.Findings {
	var findings source.Findings
	c := &checker{program: program, universe: program.Universe, findings: &findings, builtins: map[*Builtin]*Object{}}
	for i, m := range program.Modules {
		m.Number = i
	}
	for _, m := range program.Modules {
		c.checkModule(m)
	}
	c.reportNotRendered()
	return append(findings, program.track()...)
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
	m.Objects = map[string]*Object{}
	m.Info = Info{
		Types:   make([]types.Type, m.Tree.Expressions),
		Objects: make([]*Object, m.Tree.Expressions),
		Targets: make([]types.Type, m.Tree.Expressions),
		Asked:   map[syntax.ID]types.Type{},
		Slots:   map[any]int{},
	}
	m.First = c.program.Globals
	for _, d := range m.Tree.Declarations {
		c.declare(d)
	}
	m.Globals = c.program.Globals - m.First
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
}

// declare enters the name of a declaration.
func (c *checker) declare(d syntax.Declaration) {
	h := d.Declared()
	o := &Object{Name: h.Name.Name, Span: h.Name.Span, Module: c.module, Declaration: d, Global: -1, Invalid: h.Broken}
	switch d := d.(type) {
	case *syntax.Use:
		o.Kind = ObjectData
		if strings.HasSuffix(d.Path, ".knot") && d.Form == "" {
			o.Kind = ObjectModule
		}
	case *syntax.TypeDeclaration:
		o.Kind = ObjectType
	case *syntax.Input:
		o.Kind = ObjectInput
		c.program.Marked = c.program.Marked || d.Secret || d.Placeholder != nil
	case *syntax.Let:
		o.Kind = ObjectLet
	case *syntax.Function:
		o.Kind = ObjectFunction
	case *syntax.Output:
		o.Kind = ObjectOutput
		c.program.Marked = c.program.Marked || d.Secret
	case *syntax.Document:
		o.Kind = ObjectDocument
		o.Span = d.Span
		if d.Path != nil {
			o.Span = d.Path.Place()
		}
	case *syntax.Test:
		o.Kind, o.Span = ObjectTest, h.Span
	default:
		o.Kind, o.Span = ObjectStatement, h.Span
	}
	switch o.Kind {
	case ObjectData, ObjectInput, ObjectLet, ObjectOutput, ObjectDocument:
		o.Global = c.program.Globals
		c.program.Globals++
	}
	c.module.Order = append(c.module.Order, o)
	if o.Kind == ObjectDocument || o.Kind == ObjectStatement || o.Kind == ObjectTest || o.Name == "" {
		return
	}
	c.owner = o
	defer func() { c.owner = nil }()
	if o.Name == "_" {
		c.report(source.BadName, o.Span, "give it a name", `"_" discards a value and cannot name a declaration`)
		return
	}
	if existing, ok := c.module.Objects[o.Name]; ok {
		c.add(source.Finding{
			Code: source.DuplicateName, Span: o.Span, Message: fmt.Sprintf("%q is declared twice in this file", o.Name),
			Help:    "give one of them another name",
			Related: []source.Related{{Span: existing.Span, Text: "the first declaration"}},
		})
		return
	}
	isGroup := c.program.Builtins.IsGroup(o.Name)
	if isGroup && (o.Kind == ObjectModule || o.Kind == ObjectData || o.Kind == ObjectLet || o.Kind == ObjectFunction) {
		c.report(source.BadName, o.Span, "choose another name, such as "+o.Name+"_",
			"%q is the name of a group of built-in functions", o.Name)
	}
	if _, ok := types.ByName[o.Name]; ok && o.Kind == ObjectType {
		c.report(source.BadName, o.Span, "choose another name", "%q is a built-in type", o.Name)
	}
	if o.Kind == ObjectType && (o.Name == inputsMember || o.Name == instanceMember) {
		c.report(source.BadName, o.Span, "choose another name", "every module has a type %q already", o.Name)
	}
	if o.Name == documentsMember && (o.Kind == ObjectLet || o.Kind == ObjectOutput || o.Kind == ObjectFunction) {
		c.report(source.BadName, o.Span, "choose another name, such as all_"+o.Name,
			"%q is the name under which an instance of this module has its files", o.Name)
	}
	c.module.Objects[o.Name] = o
}

// resolve finds out the type of an object and checks its declaration. An object that is asked for while it is being
// resolved depends on itself: that is reported later, with the whole circle.
func (c *checker) resolve(o *Object) {
	if o.state != unresolved {
		if o.state == resolving && o.Type == nil {
			o.Type = types.Invalid
		}
		return
	}
	o.state, o.guards = resolving, c.guards
	owner, scope, facts, it, lazy, patching := c.owner, c.scope, c.facts, c.it, c.lazy, c.patching
	c.owner, c.scope, c.facts, c.it, c.lazy, c.patching = o, nil, nil, nil, 0, nil
	if o.Kind == ObjectType {
		c.types++
	}
	c.resolveDeclaration(o)
	if o.Type == nil {
		o.Type = types.Invalid
	}
	o.state = resolved
	if o.Kind == ObjectType {
		c.types--
		c.checkWaiting()
	}
	c.owner, c.scope, c.facts, c.it, c.lazy, c.patching = owner, scope, facts, it, lazy, patching
}

// whenKnown checks an expression that stands in a type, a default or a condition: at once when no declared type is in
// hand, else when all that are in hand are known. Before, nothing can be said of a value of such a type.
func (c *checker) whenKnown(check func()) {
	if c.types == 0 {
		check()
		return
	}
	owner, guards := c.owner, c.guards
	c.waiting = append(c.waiting, func() {
		c.owner, c.guards = owner, guards
		check()
	})
}

// checkWaiting makes the checks that waited when no type is in hand any more.
func (c *checker) checkWaiting() {
	if c.types > 0 {
		return
	}
	waiting, guards := c.waiting, c.guards
	c.waiting = nil
	for _, check := range waiting {
		check()
	}
	c.guards = guards
}

func (c *checker) resolveDeclaration(o *Object) {
	_, function := o.Declaration.(*syntax.Function)
	_, named := o.Declaration.(*syntax.TypeDeclaration)
	if o.Declaration.Declared().Broken && !function && !named {
		return // what could be read of it may mean something else
	}
	switch d := o.Declaration.(type) {
	case *syntax.Use:
		c.checkUse(o, d)
	case *syntax.TypeDeclaration:
		named := c.universe.Named(o.Name)
		o.Type = named
		if d.Type != nil && !d.Broken {
			named.Resolve(c.typeOf(d.Type))
		} else {
			named.Resolve(types.Invalid)
		}
	case *syntax.Input:
		o.Type = types.Invalid
		if d.Type != nil {
			o.Type = c.typeOf(d.Type)
			if !types.IsData(o.Type) {
				c.report(source.WrongType, d.Type.Place(), "declare a function with fn",
					"an input is plain data, not %s", o.Type)
			}
		}
		if d.Type != nil && (d.Secret || d.Placeholder != nil) {
			what := "a secret input"
			if d.Placeholder != nil {
				what = "a later input"
			}
			c.checkHidden(d.Type, o.Type, what)
		}
		if d.Default != nil {
			c.check(d.Default, o.Type, fmt.Sprintf("input %q", o.Name))
		}
		if d.Example != nil {
			c.check(d.Example, o.Type, fmt.Sprintf("an example of %q", o.Name))
		}
	case *syntax.Let:
		o.Type = c.instanceOf(d.Value)
		c.checkValue(o, d.Type, d.Value, fmt.Sprintf("%q", o.Name))
	case *syntax.Output:
		c.checkValue(o, d.Type, d.Value, fmt.Sprintf("output %q", o.Name))
		c.checkData(o.Type, d.Value, "an output")
	case *syntax.Document:
		o.Type = c.checkDocument(d)
	case *syntax.Test:
		c.checkTest(d)
	case *syntax.Remark, *syntax.Require, *syntax.Include, *syntax.PatchAll, *syntax.IfBlock, *syntax.ForBlock:
		c.checkStatement(d)
	case *syntax.Function:
		c.checkFunction(o, d)
	}
}

// checkHidden reports a type of which it would have to be known how many values there are before they are.
func (c *checker) checkHidden(written syntax.Type, t types.Type, what string) {
	var bad func(t types.Type, seen []types.Type) types.Type
	bad = func(t types.Type, seen []types.Type) types.Type {
		if slices.Contains(seen, t) {
			return t
		}
		seen = append(seen, t)
		var scalar types.Type
		for _, part := range types.Parts(t) {
			switch wide := types.Widen(types.Core(part)); wide {
			case types.Bool, types.Int, types.Float, types.String:
				if scalar != nil && scalar != wide { // of which kind it is would be known
					return t
				}
				scalar = wide
			}
			switch of := part.(type) {
			case *types.List:
				return part
			case *types.Basic:
				if part == types.Any {
					return part
				}
			case *types.Record:
				if of.Rest != nil || len(types.Parts(t)) > 1 {
					return part
				}
				for _, f := range of.Fields {
					if f.Optional {
						return part
					}
					if found := bad(f.Type, seen); found != nil {
						return found
					}
				}
			}
		}
		return nil
	}
	if part := bad(t, nil); part != nil {
		c.report(source.WrongType, written.Place(),
			"make it a scalar, or a record whose fields are all declared and always there",
			"%s is not there while most of the work is done, so that its shape must be known: not %s", what, part)
	}
}

func (c *checker) checkUse(o *Object, d *syntax.Use) {
	imported := c.module.Imports[d]
	if imported == nil || imported.Failed {
		o.Invalid = true
	}
	o.Type = types.Any
	if d.Type != nil {
		if o.Kind == ObjectModule {
			c.report(source.Syntax, d.Type.Place(), "leave it out", "a module has no type")
			return
		}
		o.Type = c.typeOf(d.Type)
	} else if d.Form == "text" || d.Form == "bytes" {
		o.Type = types.String
	} else if d.Form == "stream" {
		o.Type = c.universe.List(types.Any)
	} else if strings.Contains(d.Path, "*") {
		o.Type = c.universe.Map(types.Any)
	}
	if o.Invalid {
		o.Type = types.Invalid
	}
}

// checkValue checks `name: T = value`.
func (c *checker) checkValue(o *Object, declared syntax.Type, value syntax.Expression, what string) {
	if declared != nil {
		o.Type = c.typeOf(declared)
	}
	if value == nil {
		return
	}
	if o.Type == nil {
		inferred := c.universe.Explained(c.infer(value, nil))
		if o.Type == nil { // else it is part of a circle
			o.Type = inferred
		}
		return
	}
	c.check(value, o.Type, what)
}

// checkDocument checks a document, which may stand in a block, and returns the type of its value.
func (c *checker) checkDocument(d *syntax.Document) types.Type {
	if d.Path != nil {
		c.check(d.Path, types.String, "the path of a document")
		format, ending := d.Format.Name, ""
		if s, ok := d.Path.(*syntax.String); ok && len(s.Parts) > 0 {
			last := s.Parts[len(s.Parts)-1]
			if dot := strings.LastIndexByte(last.Text, '.'); dot >= 0 && !strings.Contains(last.Text[dot:], "/") {
				ending = last.Text[dot+1:]
			}
			switch {
			case format != "" && !slices.Contains(Formats, format):
				help := "formats are " + strings.Join(Formats, ", ")
				if near, ok := c.suggestions.Nearest(format, Formats); ok {
					help = fmt.Sprintf("did you mean %s?", near)
				}
				c.report(source.UnknownFormat, d.Format.Span, help, "there is no format %q", format)
			case d.Stream && last.Value == nil && ending != "yaml" && ending != "yml":
				c.report(source.UnknownFormat, d.Path.Place(), "end the path with .yaml or .yml",
					"only YAML files hold several documents")
			case format == "" && last.Value == nil && !slices.Contains(Formats, ending):
				c.report(source.UnknownFormat, d.Path.Place(),
					"end it with ."+strings.Join(Formats, ", .")+`, or write "as" and a format`,
					"the ending of this path does not tell a format")
			}
		}
	}
	if d.Value == nil {
		return types.Invalid
	}
	t := c.typedValue(d.Type, d.Value, "the document")
	c.checkData(t, d.Value, "a document")
	if d.Stream && !types.Assignable(t, c.universe.List(types.Any)) {
		c.report(source.WrongType, d.Value.Place(), "write document for a single one",
			"a stream is a list of documents, not %s", types.Describe(t))
	}
	return t
}

// typedValue checks a value against the type that is written for it, if any, and returns the type that it has then.
func (c *checker) typedValue(declared syntax.Type, value syntax.Expression, what string) types.Type {
	if declared == nil {
		return c.universe.Explained(c.infer(value, nil))
	}
	t := c.typeOf(declared)
	c.check(value, t, what)
	return t
}

// checkStatement checks what has no name: a remark, a requirement, or a block.
func (c *checker) checkStatement(d syntax.Declaration) {
	switch d := d.(type) {
	case *syntax.Document:
		c.checkDocument(d)
	case *syntax.Remark:
		c.check(d.Value, types.String, "a remark")
	case *syntax.Require:
		c.check(d.Condition, types.Bool, "what is required")
		c.messageOf(d.Condition, d.Message)
	case *syntax.Include:
		c.checkInclude(d)
	case *syntax.PatchAll:
		c.checkPatchAll(d)
	case *syntax.Each:
		c.checkEach(d)
	case *syntax.Operation:
		c.checkOperation(d)
	case *syntax.Expect:
		c.checkExpect(d)
	case *syntax.Let:
		t := c.typedValue(d.Type, d.Value, fmt.Sprintf("%q", d.Name.Name))
		c.module.Info.Slots[d] = c.bind(d.Name, t).Slot
	case *syntax.IfBlock:
		c.check(d.Condition, types.Bool, "a condition")
		facts := c.facts
		c.assume(d.Condition, true)
		c.forgetEach()
		c.checkBlock(d.Then)
		c.facts = facts
		c.assume(d.Condition, false)
		c.forgetEach()
		c.checkBlock(d.Else)
		c.facts = facts
	case *syntax.ForBlock:
		key, element := c.loopTypes(d.Loop, c.infer(d.Loop.In, nil))
		outer, facts := c.scope, c.facts
		c.bindLoop(d.Loop, key, element)
		if c.patching != nil {
			c.patching.touchAll(d.Body)
		}
		c.forgetEach()
		c.checkBlock(d.Body)
		c.facts = facts
		c.unbind(outer)
	}
}

// messageOf checks the text that is told when a condition does not hold.
func (c *checker) messageOf(condition, message syntax.Expression) {
	if message == nil {
		return
	}
	facts := c.facts
	c.assume(condition, false)
	c.check(message, types.String, "a message")
	c.facts = facts
}

// checkBlock checks the declarations of a block, of which names are known to those behind them.
func (c *checker) checkBlock(declarations []syntax.Declaration) {
	outer := c.scope
	for _, d := range declarations {
		c.checkStatement(d)
	}
	c.unbind(outer)
}

// checkData reports a value that leaves the program and holds a function.
func (c *checker) checkData(t types.Type, value syntax.Expression, what string) {
	if t != nil && value != nil && !types.IsData(t) {
		holds, help := "holds a function", "call the function, or leave it out"
		if types.AsInstance(t) != nil {
			holds, help = "is an instance", "take one of its members"
		}
		c.report(source.WrongType, value.Place(), help, "%s is plain data, but this %s: %s", what, holds, t)
	}
}

// Formats are the formats of documents, as endings and behind `as`.
var Formats = []string{"yaml", "yml", "json", "toml", "env", "txt"}

func (c *checker) checkFunction(o *Object, d *syntax.Function) {
	if d.Result != nil {
		o.Type = c.typeOf(d.Result)
	}
	for _, p := range d.Parameters {
		parameter := Parameter{Name: p.Name.Name, Type: types.Invalid}
		if p.Type != nil {
			parameter.Type = c.typeOf(p.Type)
		}
		o.Parameters = append(o.Parameters, parameter)
	}
	// Parameters are the first in the frame. Each sees those before it in its default.
	first := o.Frame
	o.Frame += len(d.Parameters)
	for i, p := range d.Parameters {
		parameter := &o.Parameters[i]
		if p.Default != nil {
			c.check(p.Default, parameter.Type, fmt.Sprintf("parameter %q", p.Name.Name))
			parameter.Default = &Default{Module: c.module, Expression: p.Default, Owner: o}
		}
		parameter.Object = c.bindAt(p.Name, parameter.Type, first+i)
	}
	if d.Body == nil || d.Broken {
		return
	}
	if o.Type != nil {
		c.check(d.Body, o.Type, fmt.Sprintf("the result of %q", o.Name))
		return
	}
	result := c.universe.Explained(c.infer(d.Body, nil))
	if o.Type == nil {
		o.Type = result
	}
}

// bind enters a local name and gives it a place in the frame of the declaration.
func (c *checker) bind(name syntax.Identifier, t types.Type) *Object {
	c.owner.Frame++
	return c.bindAt(name, t, c.owner.Frame-1)
}

// bindAt is bind for a place that is taken already.
func (c *checker) bindAt(name syntax.Identifier, t types.Type, slot int) *Object {
	o := &Object{Kind: ObjectLocal, Name: name.Name, Span: name.Span, Module: c.module, Type: t, Slot: slot,
		Global: -1, state: resolved}
	if name.Name == "_" {
		return o
	}
	for s := c.scope; s != nil; s = s.outer {
		if s.object.Name == name.Name {
			c.add(source.Finding{
				Code: source.DuplicateName, Span: name.Span,
				Message: fmt.Sprintf("%q is already the name of a local value here", name.Name),
				Help:    "give one of them another name", Related: see(s.object),
			})
			break
		}
	}
	c.scope = &scope{c.scope, o}
	return o
}

// unbind takes local names off again and warns of those that nothing used.
func (c *checker) unbind(to *scope) {
	for s := c.scope; s != to; s = s.outer {
		if !s.object.used {
			c.warn(source.Unused, s.object.Span, `write "_" for a value that is not needed`, "nothing uses %q",
				s.object.Name)
		}
	}
	c.scope = to
}

// local reports whether a name is that of a local value.
func (c *checker) local(name string) bool {
	for s := c.scope; s != nil; s = s.outer {
		if s.object.Name == name {
			return true
		}
	}
	return false
}

// lookup finds a name; nil when there is none, which it reports.
func (c *checker) lookup(name string, span source.Span) *Object {
	for s := c.scope; s != nil; s = s.outer {
		if s.object.Name == name {
			s.object.used = true
			return s.object
		}
	}
	if o, ok := c.module.Objects[name]; ok {
		c.use(o, span)
		return o
	}
	c.owner.Invalid = true
	if c.module.Tree.Nameless {
		return nil
	}
	help, related := "declare it with let, input or use", []source.Related(nil)
	functions := c.builtinsNamed(name)
	if near, ok := c.nearest(name); ok {
		help = fmt.Sprintf("did you mean %q?", near)
		related = see(c.module.Objects[near])
	} else if _, ok := types.ByName[name]; ok {
		help = "this is a type, not a value"
	}
	if len(functions) > 0 {
		help, related = "did you mean "+strings.Join(functions, " or ")+"?", nil
	}
	c.add(source.Finding{Code: source.UnknownName, Span: span, Message: fmt.Sprintf("there is no %q here", name),
		Help: help, Related: related})
	return nil
}

// nearest returns the name here that another is most likely a misspelling of.
func (c *checker) nearest(name string) (string, bool) {
	if !c.suggestions.Left() {
		return "", false
	}
	candidates := c.program.Builtins.Groups()
	for s := c.scope; s != nil; s = s.outer {
		candidates = append(candidates, s.object.Name)
	}
	for n := range c.module.Objects {
		candidates = append(candidates, n)
	}
	return c.suggestions.Nearest(name, candidates)
}

// use notes that the declaration in hand refers to an object, and resolves it.
func (c *checker) use(o *Object, span source.Span) {
	o.used = true
	if c.owner != nil {
		guarded := o.Kind == ObjectType && c.owner.Kind == ObjectType && c.guards > c.owner.guards || c.lazy > 0
		at := slices.IndexFunc(c.owner.Uses, func(r Reference) bool { return r.Object == o })
		switch {
		case at < 0:
			c.owner.Uses = append(c.owner.Uses, Reference{o, span, guarded})
		case !guarded && c.owner.Uses[at].Guarded:
			c.owner.Uses[at] = Reference{o, span, false}
		}
	}
	if o.Module == c.module {
		c.resolve(o)
	}
}

func (c *checker) checkIndependence(condition *Condition) {
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

// reportUnused warns of private names, uses and inputs of the project that nothing uses.
func (c *checker) reportUnused() {
	if slices.ContainsFunc(c.module.Tree.Declarations, func(d syntax.Declaration) bool { return d.Declared().Broken }) {
		return // it may be what uses it
	}
	for _, o := range c.module.Order {
		if o.used || o.Invalid || o.Name == "" {
			continue
		}
		switch {
		case o.Kind == ObjectModule || o.Kind == ObjectData:
			c.warn(source.Unused, o.Span, "remove the use", "nothing uses %q", o.Name)
		case o.Kind == ObjectInput && c.module.Main:
			c.warn(source.Unused, o.Span, "remove it, or use it", "nothing uses the input %q", o.Name)
		case o.Private() && o.Kind != ObjectInput:
			c.warn(source.Unused, o.Span, "remove it", "nothing in this file uses the private name %q", o.Name)
		case c.module.Main && (o.Kind == ObjectLet || o.Kind == ObjectFunction || o.Kind == ObjectType):
			c.warn(source.Unused, o.Span, "remove it, or use it; an output is for what others read",
				"nothing uses the %s %q", o.Kind, o.Name)
		}
	}
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
	for _, m := range c.program.Modules {
		if m.Main || m.instantiated || !reached[m] {
			continue
		}
		for _, o := range m.Order {
			help := fmt.Sprintf("make an instance and include it: include %s(…)", m.shortName())
			switch words := Holds(o.Declaration); {
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

// Held is what a declaration without a name holds, in its blocks too.
type Held struct {
	Rendered string // the word of the first that brings something forth: document, stream, include or remark; empty when none does
	Requires bool   // there is a requirement
}

// Holds looks for what a declaration holds.
func Holds(d syntax.Declaration) Held {
	var held Held
	var look func(d syntax.Declaration)
	look = func(d syntax.Declaration) {
		word := ""
		switch d := d.(type) {
		case *syntax.Document:
			word = "document"
			if d.Stream {
				word = "stream"
			}
		case *syntax.Include:
			word = "include"
		case *syntax.Remark:
			word = "remark"
		case *syntax.Require:
			held.Requires = true
		case *syntax.IfBlock:
			for _, inner := range slices.Concat(d.Then, d.Else) {
				look(inner)
			}
		case *syntax.ForBlock:
			for _, inner := range d.Body {
				look(inner)
			}
		}
		if held.Rendered == "" {
			held.Rendered = word
		}
	}
	look(d)
	return held
}
