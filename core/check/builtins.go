package check

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// Builtin is what is known of a built-in function before it runs. Whatever the checker, evaluation and what follows
// secrets do for one function and not for another is here: none of them knows a function by its name.
type Builtin struct {
	// Group is the name before the point; empty for the functions of the language itself.
	Group string
	// Signature is the name, parameters and result as the language writes them; a capital letter is a type variable.
	Signature string
	// Handling says what it does with values that are hidden or not known.
	Handling Handling
	// Gives says what its result is, where its arguments tell more than its signature.
	Gives Gives
	// Pattern is the parameter that is a regular expression; empty when none is.
	Pattern string
	// NewNumbers says that it makes new numbers from those that it is given: they are of the kind of these, but need
	// not be among them. Its type variables stand for int and float only.
	NewNumbers bool
	// Contains says that it looks for its second argument in its first, as `in` does.
	Contains bool
	// Orders says that it compares the elements of its first argument by size, or what its second makes of them.
	Orders bool
	// Counts says that it looks at how much there is, whatever that is.
	Counts bool
}

// Handling says what a built-in function does with values that are hidden or not known.
type Handling uint8

// A function computes something from all that it is given, passes on what it is given without looking into it, or
// joins texts, in which a placeholder may stand for what is not known.
const (
	Computes Handling = iota
	Passes
	Joins
)

// Gives says what a function that passes on what it is given returns.
type Gives uint8

// A function gives what its signature tells; its first argument, or some of its elements or entries; of the entries of
// its first argument those with the keys that its second lists, or all others; its second argument laid over its first;
// or the entry of its first with the key that is its second, else its third.
const (
	BySignature Gives = iota
	FirstArgument
	ListedEntries
	OtherEntries
	MergedArguments
	OneEntry
)

// The functions of the language itself. They belong to no group, and a declaration may take their names.
var (
	// Fail stops with its message, and is of every type.
	Fail = &Builtin{Signature: "fail(message: string)"}
	// Environment is what a test calls for the whole project in an environment, as an instance of its main module. Only
	// tests of the main module see it.
	Environment = &Builtin{Signature: "environment(name: string)"}
	// Environments gives the names that Environment takes, in the order of the project file, to the same tests.
	Environments = &Builtin{Signature: "environments()"}
)

// Name returns the name without the group.
func (b *Builtin) Name() string {
	name, _, _ := strings.Cut(b.Signature, "(")
	return name
}

// Builtins is a table of built-in functions. A nil table has none.
type Builtins struct {
	groups []string
	names  map[string][]string
	byName map[[2]string]*Builtin
}

// NewBuiltins returns the table of some functions, in which groups and names keep their order.
func NewBuiltins(all []*Builtin) *Builtins {
	t := &Builtins{names: map[string][]string{}, byName: map[[2]string]*Builtin{}}
	for _, b := range all {
		if _, known := t.names[b.Group]; !known {
			t.groups = append(t.groups, b.Group)
		}
		t.names[b.Group] = append(t.names[b.Group], b.Name())
		t.byName[[2]string{b.Group, b.Name()}] = b
	}
	return t
}

// Groups returns the names of the groups.
func (t *Builtins) Groups() []string {
	if t == nil {
		return nil
	}
	return slices.Clone(t.groups)
}

// IsGroup reports whether a name is that of a group.
func (t *Builtins) IsGroup(name string) bool { return t != nil && t.names[name] != nil }

// Names returns the names of the functions of a group.
func (t *Builtins) Names(group string) []string {
	if t == nil {
		return nil
	}
	return slices.Clone(t.names[group])
}

// Find returns a function; nil when there is none.
func (t *Builtins) Find(group, name string) *Builtin {
	if t == nil {
		return nil
	}
	return t.byName[[2]string{group, name}]
}

// languageFunction returns the function of the language itself that a name stands for where nothing is declared under
// it; nil when it stands for none.
func (c *checker) languageFunction(name string) *Object {
	if _, declared := c.module.Objects[name]; declared || c.local(name) {
		return nil
	}
	switch {
	case name == Fail.Name():
		return &Object{Kind: ObjectBuiltin, Name: name, Builtin: Fail, Global: -1, state: resolved, Type: types.Never,
			Parameters: []Parameter{{Name: "message", Type: types.String}}}
	case c.owner.Kind != ObjectTest || !c.module.Main:
	case name == Environment.Name():
		return &Object{Kind: ObjectBuiltin, Name: name, Builtin: Environment, Global: -1, state: resolved,
			Type: c.instanceType(c.module), Parameters: []Parameter{{Name: "name", Type: c.environmentNames()}}}
	case name == Environments.Name():
		return &Object{Kind: ObjectBuiltin, Name: name, Builtin: Environments, Global: -1, state: resolved,
			Type: c.universe.List(c.environmentNames())}
	}
	return nil
}

// environmentNames is the type of the names of environments.
func (c *checker) environmentNames() types.Type {
	names := make([]types.Type, len(c.module.Environments))
	for i, name := range c.module.Environments {
		names[i] = c.universe.Literal(name)
	}
	return c.universe.Union(names...)
}

// builtin returns a built-in function, whose signature is read when it is first used.
func (c *checker) builtin(group string, name syntax.Identifier) *Object {
	declared := c.program.Builtins.Find(group, name.Name)
	if o, ok := c.program.builtins[declared]; ok {
		return o
	}
	if declared == nil {
		names := c.program.Builtins.Names(group)
		help := "it has " + strings.Join(names, ", ")
		if near, found := c.suggestions.Nearest(name.Name, names); found {
			help = fmt.Sprintf("did you mean %s.%s?", group, near)
		}
		if elsewhere := c.program.Builtins.Named(name.Name); len(elsewhere) > 0 {
			if here := group + "." + OtherNames[name.Name]; slices.Contains(elsewhere, here) {
				elsewhere = []string{here}
			}
			help = "did you mean " + strings.Join(elsewhere, " or ") + "?"
		}
		if here := group + "." + name.Name; elsewhereWritten[here] != "" {
			help = elsewhereWritten[here]
		}
		c.report(source.UnknownName, name.Span, help, "there is no built-in function %s.%s", group, name.Name)
		return nil
	}
	o := Signature(c.universe, declared.Signature)
	o.Name, o.Builtin = group+"."+name.Name, declared
	c.program.builtins[declared] = o
	return o
}

// elsewhereWritten maps functions of other languages to the way in which the same is written here.
var elsewhereWritten = map[string]string{
	"text.format": "values are inserted into a string: \"${name}\"", "text.concat": "+ joins strings",
	"list.append": "+ joins lists: xs + [x], or [...xs, x]", "list.push": "+ joins lists: xs + [x], or [...xs, x]",
	"list.concat": "+ joins lists: xs + ys", "list.range": "a range is written 0..2",
	"record.set":    "a record with a change is written: r with { key: value }",
	"record.remove": "record.omit(r, [key]) leaves entries out",
}

// OtherNames are what functions are called elsewhere, in small letters.
var OtherNames = map[string]string{"len": "length", "size": "length", "substr": "slice", "substring": "slice",
	"concat": "join", "uppercase": "upper",
	"lowercase": "lower", "strip": "trim", "reduce": "fold", "unique": "distinct", "uniq": "distinct",
	"keys_of": "keys", "items": "entries", "includes": "contains",
	"to_int": "int", "to_string": "string", "tojson": "json", "to_json": "json", "flat": "flatten",
	"has": "contains", "startswith": "starts", "starts_with": "starts", "has_prefix": "starts", "endswith": "ends",
	"ends_with": "ends", "has_suffix": "ends", "ceiling": "ceil", "power": "pow", "upcase": "upper",
	"downcase": "lower", "to_upper": "upper", "to_lower": "lower", "lpad": "pad_left", "rpad": "pad_right",
	"group_by": "group", "sort_by": "sort", "sorted": "sort", "every": "all", "some": "any", "exists": "any",
	"str": "string", "tostring": "string", "parseint": "int", "atoi": "int", "toint": "int", "parsefloat": "float",
	"tofloat": "float", "trimspace": "trim", "regex_replace": "replace_pattern", "fixed": "decimal",
	"to_fixed": "decimal"}

// Named returns the built-in functions of a name, or of one that is another word for it, in whatever group.
func (b *Builtins) Named(name string) []string {
	var found []string
	for _, wanted := range []string{name, OtherNames[strings.ToLower(name)]} {
		for _, group := range b.Groups() {
			if wanted != "" && slices.Contains(b.Names(group), wanted) {
				found = append(found, group+"."+wanted)
			}
		}
	}
	return found
}

// asFunction is the help for a field that is not there: the call of a built-in function of its name, when there is one
// that takes the value.
func (c *checker) asFunction(e *syntax.Field, of types.Type) string {
	if strings.HasPrefix(c.module.Tree.File.Slice(e.Name.Span), `"`) && types.Widen(of) == types.String {
		return "+ joins strings"
	}
	for _, name := range c.program.Builtins.Named(e.Name.Name) {
		group, function, _ := strings.Cut(name, ".")
		o := c.builtin(group, syntax.Identifier{Name: function})
		if len(o.Parameters) == 0 {
			continue
		}
		takes := o.Parameters[0].Type
		if !types.HasVariables(takes) && !types.Assignable(of, takes) ||
			types.HasVariables(takes) && !c.universe.Bind(takes, of, map[string]types.Type{}) {
			continue
		}
		more := ""
		if len(o.Parameters) > 1 && o.Parameters[1].Default == nil {
			more = ", …"
		}
		return fmt.Sprintf("write %s(%s%s)", name, c.text(e.Of), more)
	}
	return ""
}

// Signature reads the signature of a built-in function, such as "sort(xs: [T]) -> [T]". One capital letter is a type
// variable. Signatures are part of the program: a wrong one panics.
func Signature(u *types.Universe, text string) *Object {
	file, err := source.NewSet().Add("signature", []byte("fn _"+text+" = null"))
	if err != nil {
		panic(err)
	}
	tree := syntax.Parse(file)
	if len(tree.Findings) > 0 {
		panic(fmt.Sprintf("signature %q: %s", text, tree.Findings[0].Message))
	}
	module := &Module{Path: "signature", Tree: tree, Objects: map[string]*Object{}}
	for letter := 'A'; letter <= 'Z'; letter++ {
		name := string(letter)
		module.Objects[name] = &Object{Kind: ObjectType, Name: name, Module: module, Global: -1, state: resolved,
			Type: u.Variable(name)}
	}
	var findings source.Findings
	c := &checker{universe: u, module: module, findings: &findings, owner: &Object{}}
	declaration := tree.Declarations[0].(*syntax.Function)
	o := &Object{Kind: ObjectBuiltin, Type: c.typeOf(declaration.Result), Global: -1, state: resolved}
	for _, p := range declaration.Parameters {
		parameter := Parameter{Name: p.Name.Name, Type: c.typeOf(p.Type)}
		if p.Default != nil {
			parameter.Default = &Default{Module: module, Expression: p.Default}
		}
		o.Parameters = append(o.Parameters, parameter)
	}
	if len(findings) > 0 {
		panic(fmt.Sprintf("signature %q: %s", text, findings[0].Message))
	}
	return o
}
