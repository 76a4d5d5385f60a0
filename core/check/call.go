package check

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// inferCall finds the type of a call and checks its arguments.
func (c *checker) inferCall(e *syntax.Call) types.Type {
	if alias, ok := c.component(e.Function); ok {
		return c.instantiate(e, alias)
	}
	o, value := c.callee(e.Function)
	if value != nil {
		return c.callValue(e, value)
	}
	if o == nil {
		c.inferLost(e.Arguments)
		return types.Invalid
	}
	if d, ok := o.Declaration.(*syntax.Function); ok && d.Broken && d.Parameters == nil {
		// Its head could not be read, so that nothing is known of what it takes.
		c.owner.Invalid = true
		c.inferLost(e.Arguments)
		return types.Invalid
	}
	c.module.Info.Objects[e.ID()] = o
	for _, a := range e.Arguments {
		at := slices.IndexFunc(o.Parameters, func(p Parameter) bool { return p.Name == a.Name.Name && p.Object != nil })
		if at >= 0 {
			c.note(a.Name.Span, o.Parameters[at].Object)
		}
	}
	if slices.ContainsFunc(e.Arguments, func(a *syntax.Argument) bool { return a.Spread }) {
		return c.spreadCall(e, o)
	}
	order := c.arrange(e, o)
	if order == nil {
		for _, a := range e.Arguments {
			if c.module.Info.Types[a.Value.ID()] == nil {
				c.infer(a.Value, nil) // what is wrong inside is found all the same
			}
		}
	}
	if o.Kind == ObjectBuiltin && order != nil && c.swapped(e, o, order) {
		return types.Invalid
	}
	generic := &genericCall{checker: c, function: o, variables: types.Bindings{}}
	for _, i := range o.checked(e, order) {
		p, argument := o.Parameters[i], e.Arguments[order[i]].Value
		what := fmt.Sprintf("%q of %s", p.Name, o.Name)
		if o.Kind != ObjectBuiltin || !types.HasVariables(p.Type) {
			c.check(argument, p.Type, what)
			continue
		}
		generic.argument(argument, p.Type, what)
	}
	generic.pass()
	generic.compares(e, order)
	if o.Type == nil {
		return types.Invalid
	}
	if o.Kind == ObjectBuiltin {
		for i, p := range o.Parameters {
			if order != nil && p.Name == o.Builtin.Pattern && order[i] >= 0 {
				c.checkPattern(e.Arguments[order[i]].Value)
			}
		}
		if o.Builtin.Contains && order != nil {
			if x := c.module.Info.Types[e.Arguments[order[1]].Value.ID()]; x != nil &&
				(types.LiteralValue(x) == nil || isEnvironmentName(e.Arguments[order[1]].Value)) {
				c.checkElements(e.Arguments[order[0]].Value, x)
			}
		}
		return c.keepTypes(e, o, order, c.universe.Substitute(o.Type, generic.variables))
	}
	return o.Type
}

// keepTypes returns the type of what a function of records returns where its arguments tell more than its signature:
// which fields are left, or which is asked for.
func (c *checker) keepTypes(e *syntax.Call, o *Object, order []int, result types.Type) types.Type {
	if order == nil || o.Builtin.Gives == BySignature || order[0] < 0 {
		return result
	}
	r := c.module.Info.Types[e.Arguments[order[0]].Value.ID()]
	if r == nil {
		return result
	}
	record := types.AsRecord(r)
	if record == nil || len(o.Parameters) < 2 || order[1] < 0 {
		return result
	}
	second := e.Arguments[order[1]].Value
	switch o.Builtin.Gives {
	case OneEntry:
		fallback := types.Null
		if order[2] >= 0 {
			if fallback = c.module.Info.Types[e.Arguments[order[2]].Value.ID()]; fallback == nil {
				return result
			}
		}
		return c.gotten(record, second, fallback)
	case ListedEntries, OtherEntries:
		keys, ok := c.writtenTexts(second)
		if !ok {
			return result
		}
		var fields []types.Field
		for _, f := range types.WithoutDefaults(record.Fields) {
			if slices.Contains(keys, f.Name) == (o.Builtin.Gives == ListedEntries) {
				fields = append(fields, f)
			}
		}
		if o.Builtin.Gives == OtherEntries {
			return c.universe.RecordOf(fields, record.Rest, record.Loose)
		}
		brought := len(fields)
		for _, key := range keys {
			if _, declared := record.Field(key); !declared && record.Rest != nil {
				fields = append(fields, types.Field{Name: key, Type: record.Rest, Optional: true})
			}
		}
		return c.universe.RecordOf(fields, nil, record.Loose || len(fields) > brought)
	}
	return result
}

// gotten returns the type of the value of a key of a record, or of what is there instead.
func (c *checker) gotten(record *types.Record, key syntax.Expression, fallback types.Type) types.Type {
	var possible []types.Type
	absent := true
	if literal, ok := c.literalOf(key); ok && types.LiteralValue(literal) != nil {
		name, _ := types.LiteralValue(literal).(string)
		f := record.Possible(name)
		if f.Type != nil {
			possible = append(possible, f.Type)
		}
		absent = f.Optional
	} else {
		for _, f := range record.Fields {
			possible = append(possible, f.Type)
		}
		if record.Rest != nil {
			possible = append(possible, record.Rest)
		}
	}
	if absent {
		possible = append(possible, fallback)
	}
	return c.universe.Gathered(possible...)
}

// writtenTexts returns the elements of a list that is written out and holds plain texts only.
func (c *checker) writtenTexts(e syntax.Expression) ([]string, bool) {
	written, ok := e.(*syntax.List)
	if !ok {
		return nil, false
	}
	var texts []string
	for _, element := range written.Elements {
		s, ok := element.Value.(*syntax.String)
		if !ok || element.Spread || element.Optional {
			return nil, false
		}
		text, plain := s.Plain()
		if !plain {
			return nil, false
		}
		texts = append(texts, text)
	}
	return texts, true
}

// spreadCall checks a call of which arguments are spread from a record.
func (c *checker) spreadCall(e *syntax.Call, o *Object) types.Type {
	if o.Kind == ObjectBuiltin {
		c.report(source.WrongArguments, e.Named.Entries[0].Span, "write the arguments out",
			"the arguments of a built-in function cannot be spread from a record")
		return types.Invalid
	}
	positions := 0
	for _, a := range e.Arguments {
		switch {
		case a.Name.Name != "" || a.Spread:
		case positions >= len(o.Parameters):
			c.report(source.WrongArguments, a.Value.Place(), "leave it out", "%s takes %s, this is one too many",
				o.Name, count(len(o.Parameters), "argument"))
			return types.Invalid
		default:
			c.check(a.Value, o.Parameters[positions].Type,
				fmt.Sprintf("%q of %s", o.Parameters[positions].Name, o.Name))
			positions++
		}
	}
	var fields []types.Field
	var names []string
	for _, p := range o.Parameters[positions:] {
		// The default may depend on parameters before it: the function fills it in.
		fields = append(fields, types.Field{Name: p.Name, Type: p.Type, Optional: p.Default != nil})
		names = append(names, p.Name)
	}
	name := fmt.Sprintf("%s(%s)", o.Name, strings.Join(names, ", "))
	arguments := c.universe.Named(name)
	arguments.Resolve(c.universe.Record(fields, nil))
	c.check(e.Named, arguments, "the arguments")
	if o.Type == nil {
		return types.Invalid
	}
	return o.Type
}

// callee finds the function that is called: a declared or built-in one, or a value, of which only the type is known.
// Both are nil when there is none, which is reported.
func (c *checker) callee(e syntax.Expression) (*Object, types.Type) {
	switch e := e.(type) {
	case *syntax.Name:
		if o := c.languageFunction(e.Name); o != nil {
			return o, nil
		}
		o := c.lookup(e.Name, e.Place())
		switch {
		case o == nil:
			return nil, nil
		case o.Kind == ObjectFunction:
			return o, nil
		case o.Kind == ObjectRule:
			c.ruleNotCalled(e.Place(), o)
			return nil, nil
		case o.Kind != ObjectType && o.Type != nil && o.Type != types.Invalid:
			if t := c.infer(e, nil); types.AsFunction(t) != nil {
				return nil, t
			} else if types.AsFunction(c.universe.WithoutNull(t)) != nil {
				c.report(source.MayBeNull, e.Place(), "compare it with null first",
					"this may be null, which cannot be called")
				return nil, nil
			}
		}
		if !o.Invalid {
			c.add(source.Finding{Code: source.WrongUse, Span: e.Place(),
				Message: fmt.Sprintf("%q is not a function, but %s", e.Name, source.Article(o.Kind.String())), Related: see(o)})
		}
		return nil, nil
	case *syntax.Field:
		name, ok := e.Of.(*syntax.Name)
		if !ok {
			break
		}
		if c.program.Builtins.IsGroup(name.Name) {
			return c.builtin(name.Name, e.Name), nil
		}
		o := c.member(e, name)
		if o == nil {
			if !c.local(name.Name) && c.module.Objects[name.Name] == nil {
				c.called = e.Name.Name
				defer func() { c.called = "" }()
			}
			break
		}
		switch {
		case o.Kind == ObjectFunction:
			return o, nil
		case o.Kind == ObjectRule:
			c.ruleNotCalled(e.Place(), o)
			return nil, nil
		case o.Kind != ObjectType && o.Type != nil && types.AsFunction(c.universe.WithoutNull(o.Type)) != nil:
			return nil, c.infer(e, nil)
		case !o.Invalid:
			c.add(source.Finding{Code: source.WrongUse, Span: e.Place(),
				Message: fmt.Sprintf("%s is not a function, but %s", c.text(e), source.Article(o.Kind.String())), Related: see(o)})
		}
		return nil, nil
	}
	return nil, c.infer(e, nil)
}

// Arrange finds for each parameter the position of the argument that it gets, by position or name; -1 stands for its
// default.
func Arrange(parameters []Parameter, arguments []*syntax.Argument) []int {
	order := make([]int, len(parameters))
	for i := range order {
		order[i] = -1
	}
	for i, a := range arguments {
		at := i
		if a.Name.Name != "" {
			at = slices.IndexFunc(parameters, func(p Parameter) bool { return p.Name == a.Name.Name })
		}
		if at >= 0 && at < len(parameters) {
			order[at] = i
		}
	}
	return order
}

// arrange is Arrange with all errors reported; nil when there is one.
func (c *checker) arrange(e *syntax.Call, o *Object) []int {
	given := map[string]bool{}
	wrong, named := false, false
	for i, a := range e.Arguments {
		name := a.Name.Name
		switch {
		case name == "" && named:
			c.report(source.WrongArguments, a.Value.Place(), "put it before the named ones, or name it",
				"an argument without a name after one with a name")
			wrong = true
		case name == "" && i >= len(o.Parameters):
			c.add(source.Finding{Code: source.WrongArguments, Span: a.Value.Place(), Help: "leave it out",
				Message: fmt.Sprintf("%s takes %s, this is one too many", o.Name,
					count(len(o.Parameters), "argument")), Related: see(o)})
			c.infer(a.Value, nil)
			wrong = true
		case name == "":
			given[o.Parameters[i].Name] = true
		default:
			named = true
			var names []string
			for _, p := range o.Parameters {
				names = append(names, p.Name)
			}
			if !slices.Contains(names, name) {
				help := c.suggestions.Suggest(name, names, "its parameters are "+strings.Join(names, ", "))
				c.add(source.Finding{Code: source.WrongArguments, Span: a.Name.Span,
					Message: fmt.Sprintf("%s has no parameter %q", o.Name, name), Help: help, Related: see(o)})
				c.infer(a.Value, nil)
				wrong = true
			} else if given[name] {
				c.report(source.WrongArguments, a.Name.Span, "leave one out", "the parameter %q is given twice", name)
				wrong = true
			}
			given[name] = true
		}
	}
	var missing []string
	for _, p := range o.Parameters {
		if !given[p.Name] && p.Default == nil {
			missing = append(missing, fmt.Sprintf("%q (%s)", p.Name, p.Type))
		}
	}
	if missing != nil && !wrong {
		plural := ""
		if len(missing) > 1 {
			plural = "s"
		}
		c.add(source.Finding{Code: source.WrongArguments, Span: e.Function.Place(),
			Message: fmt.Sprintf("%s needs the argument%s %s", o.Name, plural, strings.Join(missing, ", ")),
			Help:    "add the argument" + plural, Related: see(o)})
		wrong = true
	}
	if wrong {
		return nil
	}
	return Arrange(o.Parameters, e.Arguments)
}

// genericCall is a call of a built-in function whose parameters have variables in their types.
type genericCall struct {
	*checker
	function  *Object
	variables types.Bindings
	arguments []genericArgument
}

// genericArgument is an argument that passes into a type with variables.
type genericArgument struct {
	value     syntax.Expression
	want, got types.Type
	what      string
}

// argument checks an argument against a parameter type that holds variables, which it binds. What starts a fold
// decides what each round returns: an anonymous function is checked against it.
func (g *genericCall) argument(e syntax.Expression, want types.Type, what string) {
	c, o := g.checker, g.function
	if kept := g.kept(want); kept != nil {
		c.check(e, kept, what)
		return
	}
	var hint types.Type
	if types.OnlyFunction(want) != nil { // what is known of the variables helps an anonymous function
		hint = c.universe.SubstituteKnown(want, g.variables)
	}
	got := c.infer(e, hint)
	if got == types.Invalid {
		return
	}
	if o.Builtin.NewNumbers {
		got = c.universe.WidenDeep(got)
		numbers := types.Bindings{}
		for _, name := range types.Variables(want) {
			numbers[name] = c.universe.Union(types.Int, types.Float)
		}
		if want := c.universe.Substitute(want, numbers); !types.Assignable(got, want) {
			c.mismatch(e, got, want, what)
			return
		}
	} else if o.folds(want) {
		got = c.universe.Explained(c.universe.WidenDeep(got))
	}
	if !c.universe.Bind(want, got, g.variables) {
		c.mismatch(e, got, c.universe.Substitute(want, g.variables), what)
		return
	}
	if name := types.Variables(want); o.Builtin.NewNumbers && name != nil && g.variables[name[0]] == types.Never {
		g.variables[name[0]] = types.Int // nothing adds up to 0
	}
	g.arguments = append(g.arguments, genericArgument{e, want, got, what})
}

// inferLost checks the arguments of a call to an unknown function, so that errors in them are still reported.
func (c *checker) inferLost(arguments []*syntax.Argument) {
	outer := c.lost
	c.lost = true
	for _, a := range arguments {
		c.infer(a.Value, nil)
	}
	c.lost = outer
}

// form is the syntactic form of an expression or a type.
type form uint8

const (
	noForm form = iota
	functionForm
	listForm
	textForm
)

func formOf(e syntax.Expression) form {
	switch syntax.Bare(e).(type) {
	case *syntax.Lambda:
		return functionForm
	case *syntax.List, *syntax.For:
		return listForm
	case *syntax.String:
		return textForm
	}
	return noForm
}

func formOfType(t types.Type) form {
	switch {
	case types.OnlyFunction(t) != nil:
		return functionForm
	case types.AsList(t) != nil:
		return listForm
	case types.Core(t) == types.String:
		return textForm
	}
	return noForm
}

// swapped reports two swapped arguments as one error.
func (c *checker) swapped(e *syntax.Call, o *Object, order []int) bool {
	if len(o.Parameters) < 2 || order[0] != 0 || order[1] != 1 || e.Arguments[0].Name.Name != "" ||
		e.Arguments[1].Name.Name != "" {
		return false
	}
	first, second := formOf(e.Arguments[0].Value), formOf(e.Arguments[1].Value)
	wantFirst, wantSecond := formOfType(o.Parameters[0].Type), formOfType(o.Parameters[1].Type)
	if first == second || first == noForm || first != wantSecond || second != wantFirst || second == noForm {
		return false
	}
	c.inferLost(e.Arguments)
	c.report(source.WrongArguments, e.Arguments[0].Value.Place(),
		fmt.Sprintf("write %s(%s, %s)", o.Name, o.Parameters[0].Name, o.Parameters[1].Name),
		"%s takes %q first, then %q: these two are swapped", o.Name, o.Parameters[0].Name, o.Parameters[1].Name)
	return true
}

// kept returns the type that a checked function both takes and returns, or nil if these differ. The start value of a
// fold is checked against it, so that an empty list or record in it gets a type.
func (g *genericCall) kept(want types.Type) types.Type {
	if !g.function.folds(want) {
		return nil
	}
	for _, a := range g.arguments {
		function, of := types.OnlyFunction(a.got), types.OnlyFunction(a.want)
		if of != nil && of.Result == want && function != nil && types.IsData(function.Result) &&
			len(function.Parameters) > 0 && function.Parameters[0] == function.Result {
			return function.Result
		}
	}
	return nil
}

// checked returns the parameters that have arguments, in the order of checking: the start value of a fold comes after a
// function with declared types.
func (o *Object) checked(e *syntax.Call, order []int) []int {
	var first, later []int
	for i := range o.Parameters {
		switch {
		case order == nil || order[i] < 0:
		case o.Kind == ObjectBuiltin && o.folds(o.Parameters[i].Type) && slices.ContainsFunc(o.Parameters,
			func(p Parameter) bool { return says(o, p, e, order) }):
			later = append(later, i)
		default:
			first = append(first, i)
		}
	}
	return append(first, later...)
}

// says reports whether the argument for a parameter is a function with declared types.
func says(o *Object, p Parameter, e *syntax.Call, order []int) bool {
	at := slices.IndexFunc(o.Parameters, func(other Parameter) bool { return other.Name == p.Name })
	if types.OnlyFunction(p.Type) == nil || order[at] < 0 {
		return false
	}
	lambda, is := syntax.Bare(e.Arguments[order[at]].Value).(*syntax.Lambda)
	return !is || lambda.Result != nil && !slices.ContainsFunc(lambda.Parameters,
		func(p *syntax.Parameter) bool { return p.Type == nil })
}

// compares reports arguments that a function cannot compare by size. The elements, and the results of a function of
// them, must be numbers, strings, or lists of these.
func (g *genericCall) compares(e *syntax.Call, order []int) {
	if g.function.Builtin == nil || !g.function.Builtin.Orders || order == nil || order[0] < 0 {
		return
	}
	c, of, what := g.checker, e.Arguments[order[0]].Value, g.variables["T"]
	if by := order[1]; by >= 0 {
		of = e.Arguments[by].Value
		if t := c.module.Info.Types[of.ID()]; t != types.Null {
			what = nil
			if function := types.OnlyFunction(t); function != nil {
				what = function.Result
			}
		}
	}
	if what == nil || what == types.Invalid || sized(what) {
		return
	}
	help := "say what to compare: by: fn(x) = …"
	if types.MayBeNull(what) && sized(c.universe.WithoutNull(what)) {
		help = "it may be null: filter it out, or give a value for that case with ??"
	}
	c.report(source.WrongType, of.Place(), help, "%s compares numbers, strings, or lists of these, not %s",
		g.function.Name, types.Describe(what))
}

// sized reports whether values of a type can be compared by size.
func sized(t types.Type) bool {
	for _, part := range types.Parts(t) {
		switch list := types.AsList(part); {
		case list != nil && !sized(list.Element):
			return false
		case list == nil && part != types.Any && part != types.Never && !types.IsNumeric(part) &&
			types.Widen(part) != types.String:
			return false
		}
	}
	return true
}

// pass lets the arguments pass into the types of the parameters, now that all variables are bound: a function into
// what it is called with, and what is any into a list or a record, whatever that holds.
func (g *genericCall) pass() {
	c := g.checker
	held := types.Bindings{} // what lists and records may hold: any, but for functions
	for name, bound := range g.variables {
		if held[name] = types.Any; !types.IsData(bound) {
			held[name] = bound
		}
	}
	for _, a := range g.arguments {
		want := c.universe.Substitute(a.want, held)
		if function := types.OnlyFunction(a.want); function != nil {
			want = c.universe.Substitute(a.want, g.variables)
			if !types.Assignable(a.got, want) {
				c.mismatch(a.value, a.got, want, a.what)
				continue
			}
			if types.HasVariables(function.Result) { // what it returns is not expected to be of some type: it decides
				want = c.universe.Function(types.OnlyFunction(want).Parameters, function.Required, function.Result)
			}
		}
		if types.Converts(a.got, want) {
			c.module.Info.Targets[a.value.ID()] = want
		}
	}
}

// folds reports whether a function among the parameters makes the next value of a variable from the last: the first
// one must then not stand for itself alone.
func (o *Object) folds(t types.Type) bool {
	if _, variable := t.(*types.Variable); !variable {
		return false
	}
	return slices.ContainsFunc(o.Parameters, func(p Parameter) bool {
		function := types.AsFunction(p.Type)
		return function != nil && function.Result == t
	})
}

// callValue checks the call of a function that is a value, such as a parameter.
func (c *checker) callValue(e *syntax.Call, t types.Type) types.Type {
	function := types.AsFunction(t)
	if function == nil && t == types.Invalid {
		c.inferLost(e.Arguments)
		return types.Invalid
	}
	if function == nil {
		if types.Core(t) != types.Invalid {
			c.report(source.WrongUse, e.Function.Place(), "", "only functions can be called, not %s", types.Describe(t))
		}
		for _, a := range e.Arguments {
			c.infer(a.Value, nil)
		}
		return types.Invalid
	}
	for i, a := range e.Arguments {
		switch {
		case a.Spread:
			c.report(source.WrongArguments, a.Value.Place(), "write the arguments out",
				"the parameters of a function that is a value have no names, so that no record can be spread into them")
			c.infer(a.Value, nil)
		case a.Name.Name != "":
			c.report(source.WrongArguments, a.Name.Span, "leave the name out",
				"the parameters of a function that is a value have no names")
			c.infer(a.Value, nil)
		case i >= len(function.Parameters):
			c.report(source.WrongArguments, a.Value.Place(), "leave it out", "%s takes %s, this is one too many",
				function, count(len(function.Parameters), "argument"))
			c.infer(a.Value, nil)
		default:
			c.check(a.Value, function.Parameters[i], "an argument")
		}
	}
	if len(e.Arguments) < function.Required {
		c.report(source.WrongArguments, e.Function.Place(), "add the arguments", "%s needs %s, not %d", function,
			count(function.Required, "argument"), len(e.Arguments))
	}
	return function.Result
}
