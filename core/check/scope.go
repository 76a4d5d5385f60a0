package check

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// scope is a chain of local names.
type scope struct {
	outer  *scope
	object *Object
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
	c.module.Info.Locals[name.Span.Start] = o
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

// unbind takes local names off again at the end of what they can be used in, and warns of those that nothing used.
func (c *checker) unbind(to *scope, end source.Pos) {
	for s := c.scope; s != to; s = s.outer {
		c.module.Info.Scopes = append(c.module.Info.Scopes, Scope{s.object, source.Span{Start: s.object.Span.End, End: end}})
		if !s.object.used {
			in := inserted(c.module.Tree.File.Slice(source.Span{Start: s.object.Span.End, End: end}))
			c.warn(source.Unused, s.object.Span,
				unusedHelp(s.object.Name, in, `write "_" for a value that is not needed`), "nothing uses %q", s.object.Name)
		}
	}
	c.scope = to
}

// local reports whether a name is that of a local value.
func (c *checker) local(name string) bool { return c.localNamed(name) != nil }

// localNamed returns the local value of a name; nil when there is none.
func (c *checker) localNamed(name string) *Object {
	for s := c.scope; s != nil; s = s.outer {
		if s.object.Name == name {
			return s.object
		}
	}
	return nil
}

// lookup finds a name; nil when there is none, which it reports.
func (c *checker) lookup(name string, span source.Span) *Object {
	for s := c.scope; s != nil; s = s.outer {
		if s.object.Name == name {
			s.object.used = true
			c.note(span, s.object)
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
	functions := c.program.Builtins.Named(name)
	if called := c.program.Builtins.Named(c.called); len(called) > 0 { // strings.join(…)
		functions = called
	}
	if near, ok := c.nearest(name); ok {
		help = source.DidYouMean(near)
		related = see(c.module.Objects[near])
		if c.called != "" {
			functions = nil
		}
	} else if _, ok := types.ByName[name]; ok {
		help = "this is a type, not a value"
	} else if here := literalElsewhere[name]; here != "" {
		help = "write " + here
	} else if here := functionElsewhere[strings.ToLower(name)]; here != "" {
		help = here
	}
	if len(functions) > 0 {
		help, related = "did you mean "+strings.Join(functions, " or ")+"?", nil
	}
	c.add(source.Finding{Code: source.UnknownName, Span: span, Message: fmt.Sprintf("there is no %q here", name),
		Help: help, Related: related})
	return nil
}

// functionElsewhere maps function names of other languages, in lower case, to the way to write the same thing here.
var functionElsewhere = map[string]string{
	"range": "a range is written 0..2", "error": failHelp, "throw": failHelp, "raise": failHelp, "panic": failHelp,
	"abort": failHelp, "die": failHelp,
	"assert": `what must hold is a declaration: require condition else "message"`, "print": remarkHelp,
	"println": remarkHelp, "echo": remarkHelp, "getenv": environmentHelp, "os": environmentHelp,
	"process": environmentHelp, "this": "a value has no name for itself: give it one with let",
	"self": "a value has no name for itself: give it one with let; conditions call it it",
}

const (
	failHelp        = `a failure is written: fail("message")`
	remarkHelp      = `a sentence for the person who renders is a declaration: remark "…"`
	environmentHelp = "no variable of the machine is read: declare an input"
)

// literalElsewhere are names that other languages have for what is a literal here.
var literalElsewhere = map[string]string{
	"True": "true", "TRUE": "true", "yes": "true", "Yes": "true", "on": "true",
	"False": "false", "FALSE": "false", "no": "false", "No": "false", "off": "false",
	"None": "null", "nil": "null", "Null": "null", "NULL": "null", "undefined": "null",
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

// use notes that the current declaration refers to an object by its name, and resolves it.
func (c *checker) use(o *Object, span source.Span) {
	c.note(span, o)
	c.refer(o, span)
}

// refer is use without a name that stands for the object alone.
func (c *checker) refer(o *Object, span source.Span) {
	if o.Module == c.module { // others do not change any more
		o.used = true
	}
	if c.owner != nil {
		guarded := o.Kind == ObjectType && c.owner.Kind == ObjectType && c.guards > c.owner.guards || c.lazy > 0
		at := slices.IndexFunc(c.owner.Uses, func(r Reference) bool { return r.Object == o })
		switch {
		case at < 0:
			c.owner.Uses = append(c.owner.Uses, Reference{Object: o, Span: span, Guarded: guarded})
		case !guarded && c.owner.Uses[at].Guarded:
			c.owner.Uses[at] = Reference{Object: o, Span: span}
		}
	}
	if o.Module == c.module {
		c.resolve(o)
	}
}

// note writes down the use of a name.
func (c *checker) note(span source.Span, o *Object) {
	c.module.Info.Uses = append(c.module.Info.Uses, Use{Span: span, Object: o, Declared: o.Span})
}

// noteField writes down the use of a field of a record type.
func (c *checker) noteField(span source.Span, f *types.Field) {
	if f.Span.IsValid() {
		c.module.Info.Uses = append(c.module.Info.Uses, Use{Span: span, Declared: f.Span})
	}
}

// order puts the uses into the order of the source, each once: some expressions are looked at more than once.
func (i *Info) order() {
	compare := func(a, b Use) int {
		return cmp.Or(cmp.Compare(a.Span.Start, b.Span.Start), cmp.Compare(a.Declared.Start, b.Declared.Start))
	}
	slices.SortStableFunc(i.Uses, compare)
	i.Uses = slices.CompactFunc(i.Uses, func(a, b Use) bool { return compare(a, b) == 0 })
	slices.SortStableFunc(i.Scopes, func(a, b Scope) int { return cmp.Compare(a.Span.Start, b.Span.Start) })
}

// reportUnused warns of private names, uses and inputs of the project that nothing uses.
func (c *checker) reportUnused() {
	if slices.ContainsFunc(c.module.Tree.Declarations, func(d syntax.Declaration) bool { return d.Declared().Broken }) {
		return // it may be what uses it
	}
	var in map[string]bool
	for _, o := range c.module.Order {
		if o.used || o.Invalid || o.Name == "" {
			continue
		}
		if in == nil {
			in = inserted(c.module.Tree.File.Text)
		}
		switch {
		case o.Kind == ObjectModule || o.Kind == ObjectData:
			c.warn(source.Unused, o.Span, "remove the use", "nothing uses %q", o.Name)
		case o.Kind == ObjectInput && c.module.Main:
			c.warn(source.Unused, o.Span, unusedHelp(o.Name, in, "remove it, or use it"), "nothing uses the input %q", o.Name)
		case o.Private() && o.Kind != ObjectInput:
			c.warn(source.Unused, o.Span, "remove it", "nothing in this file uses the private name %q", o.Name)
		case c.module.Main && (o.Kind == ObjectLet || o.Kind == ObjectFunction || o.Kind == ObjectType):
			c.warn(source.Unused, o.Span, unusedHelp(o.Name, in, "remove it, or use it; an output is for what others read"),
				"nothing uses the %s %q", o.Kind, o.Name)
		}
	}
}

// foreignInsertion is how strings of other languages insert a value.
var foreignInsertion = regexp.MustCompile(`[$]([A-Za-z_][A-Za-z0-9_]*)|(?:^|[^$])[{]([A-Za-z_][A-Za-z0-9_]*)[}]`)

// inserted returns the names that a text seems to insert into strings as other languages do.
func inserted(text string) map[string]bool {
	names := map[string]bool{}
	for _, found := range foreignInsertion.FindAllStringSubmatch(text, -1) {
		names[found[1]+found[2]] = true
	}
	return names
}

// unusedHelp returns the help for a name that nothing uses: how a string inserts it, if one seems to do so as in
// another language.
func unusedHelp(name string, inserted map[string]bool, help string) string {
	if inserted[name] {
		return fmt.Sprintf("a string inserts it as ${%s}", name)
	}
	return help
}
