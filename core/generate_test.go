package core_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// generator makes random programs. Most of what it makes fits together, some does not: the checker takes out what it
// refuses, and what is left must keep every promise of the language.
type generator struct {
	*rand.Rand
	types     []namedShape
	functions []functionShape
	scope     []variable
	names     int
	unknown   string // an input that is any; empty where there is none
	// plain leaves out what the naive evaluator does not know.
	plain bool
}

// shape is a type as the generator knows it.
type shape struct {
	kind   string // int float string bool null any text (literals) list set map record union named fn tuple
	of     []shape
	fields []fieldShape
	open   bool // record: `*: any`
	texts  []string
	named  int
}

type fieldShape struct {
	name     string
	of       shape
	optional bool
	fallback string // the default, as it is written; empty for none
}

type namedShape struct {
	name  string
	is    shape
	where string
}

type functionShape struct {
	name       string
	parameters []shape
	result     shape
}

type variable struct {
	name string
	of   shape
}

func (g *generator) pick(options ...func() string) string { return options[g.IntN(len(options))]() }

func (g *generator) chance(percent int) bool { return g.IntN(100) < percent }

func (g *generator) name(prefix string) string {
	g.names++
	return fmt.Sprintf("%s%d", prefix, g.names)
}

// fieldNames are few, so that records meet each other's fields.
var fieldNames = []string{"a", "b", "c", "kind", "x-y"}

// text writes a type.
func (g *generator) text(s shape) string {
	switch s.kind {
	case "text":
		quoted := make([]string, len(s.texts))
		for i, t := range s.texts {
			quoted[i] = fmt.Sprintf("%q", t)
		}
		return strings.Join(quoted, " | ")
	case "list":
		return "[" + g.text(s.of[0]) + "]"
	case "set":
		return "{" + g.text(s.of[0]) + "}"
	case "map":
		return "{ *: " + g.text(s.of[0]) + " }"
	case "tuple":
		return "[" + g.text(s.of[0]) + ", " + g.text(s.of[1]) + "]"
	case "union":
		parts := make([]string, len(s.of))
		for i, m := range s.of {
			if parts[i] = g.text(m); m.kind == "fn" {
				parts[i] = "(" + parts[i] + ")"
			}
		}
		return strings.Join(parts, " | ")
	case "named":
		return g.types[s.named].name
	case "fn":
		result := g.text(s.of[1])
		return "fn(" + g.text(s.of[0]) + ") -> " + result
	case "record":
		var parts []string
		for _, f := range s.fields {
			mark, fallback := "", ""
			if f.optional {
				mark = "?"
			}
			if f.fallback != "" {
				fallback = " = " + f.fallback
			}
			parts = append(parts, f.name+mark+": "+g.text(f.of)+fallback)
		}
		if s.open {
			parts = append(parts, "*: any")
		}
		if parts == nil {
			return "{}"
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	}
	return s.kind
}

var scalarKinds = []string{"int", "string", "bool", "float"}

// shape makes a random type.
func (g *generator) shape(depth int) shape {
	if depth <= 0 || g.chance(35) {
		switch n := g.IntN(10); {
		case n < 7:
			return shape{kind: scalarKinds[g.IntN(4)]}
		case n < 8 && len(g.types) > 0:
			return shape{kind: "named", named: g.IntN(len(g.types))}
		case n < 9:
			return shape{kind: "text", texts: []string{"a", "b"}}
		}
		return shape{kind: "any"}
	}
	inner := func() shape { return g.shape(depth - 1) }
	switch g.IntN(12) {
	case 0, 1:
		return shape{kind: "list", of: []shape{inner()}}
	case 2:
		return shape{kind: "set", of: []shape{{kind: []string{"int", "string"}[g.IntN(2)]}}}
	case 3, 4:
		return shape{kind: "map", of: []shape{inner()}}
	case 5:
		return shape{kind: "tuple", of: []shape{inner(), inner()}}
	case 6, 7:
		second := inner()
		if g.chance(50) {
			second = shape{kind: "null"}
		}
		first := inner()
		if first.kind == "any" || second.kind == "any" {
			return first
		}
		return shape{kind: "union", of: []shape{first, second}}
	}
	return g.record(depth)
}

func (g *generator) record(depth int) shape {
	s := shape{kind: "record", open: g.chance(10)}
	for _, name := range fieldNames {
		if !g.chance(45) {
			continue
		}
		f := fieldShape{name: name, of: g.shape(depth - 1)}
		if name == "kind" && g.chance(60) {
			f.of = shape{kind: "text", texts: []string{[]string{"a", "b"}[g.IntN(2)]}}
		}
		switch {
		case g.chance(20):
			f.optional = true
		case g.chance(20):
			f.fallback = g.literal(f.of, 1)
		}
		s.fields = append(s.fields, f)
	}
	return s
}

// recursive makes a record that contains others of the named type that it will be, with defaults among them.
func (g *generator) recursive(i int) shape {
	self := shape{kind: "named", named: i}
	s := shape{kind: "record", fields: []fieldShape{
		{name: "b", of: shape{kind: "list", of: []shape{self}}},
	}}
	g.types = g.types[:i]
	s.fields = append(s.fields, fieldShape{name: "a", of: g.shape(1)})
	g.types = g.types[:i+1]
	if g.chance(30) {
		s.fields = append(s.fields, fieldShape{name: "c", of: shape{kind: "union", of: []shape{self, {kind: "null"}}}})
	}
	if g.chance(30) {
		s.fields = append(s.fields, fieldShape{name: "kind", of: shape{kind: "tuple", of: []shape{{kind: "int"}, self}},
			optional: true})
	}
	g.types[i].is = s
	for j := range s.fields {
		if g.chance(40) && !s.fields[j].optional {
			of := s.fields[j].of
			if g.chance(10) {
				of = g.shape(1) // which need not fit
			}
			s.fields[j].fallback = g.literal(of, 1)
			g.types[i].is = s
		}
	}
	return s
}

// literal writes a value of a type, in which nothing is computed.
func (g *generator) literal(s shape, depth int) string {
	outer, names := g.scope, g.functions
	g.scope, g.functions = nil, nil
	defer func() { g.scope, g.functions = outer, names }()
	return g.value(s, 0)
}

// value writes out a value of a type; its parts are expressions as deep as said.
func (g *generator) value(s shape, depth int) string {
	part := func(s shape) string { return g.expression(s, depth-1) }
	switch s.kind {
	case "int":
		return fmt.Sprint(g.IntN(7) - 2)
	case "float":
		return fmt.Sprintf("%d.%d", g.IntN(4), 5*g.IntN(2))
	case "string":
		if depth > 0 && g.chance(30) {
			return `"s${` + part(shape{kind: scalarKinds[g.IntN(4)]}) + `}"`
		}
		return fmt.Sprintf("%q", []string{"a", "b", "kind", "s", ""}[g.IntN(5)])
	case "bool":
		return fmt.Sprint(g.chance(50))
	case "null":
		return "null"
	case "text":
		return fmt.Sprintf("%q", s.texts[g.IntN(len(s.texts))])
	case "any":
		return part(g.shape(min(depth, 2)))
	case "named":
		if depth < -4 { // types that contain themselves
			return g.ended(g.types[s.named].is)
		}
		return g.value(g.types[s.named].is, depth-1)
	case "union":
		return g.value(s.of[g.IntN(len(s.of))], depth)
	case "tuple":
		return "[" + part(s.of[0]) + ", " + part(s.of[1]) + "]"
	case "set":
		if s.of[0].kind == "int" {
			return []string{"[3, 1]", "[]", "[2]"}[g.IntN(3)]
		}
		return []string{`["b", "a"]`, "[]", `["c"]`}[g.IntN(3)]
	case "list":
		var parts []string
		for range g.IntN(3) {
			switch {
			case depth > 0 && g.chance(15):
				parts = append(parts, "..."+g.expression(s, depth-1))
			case depth > 0 && g.chance(10):
				parts = append(parts, "...if "+g.condition(depth-1)+" then "+g.operand(s, depth-1))
			default:
				parts = append(parts, part(s.of[0]))
			}
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case "map":
		var parts []string
		for _, key := range []string{"a", "b", "z"} {
			if g.chance(40) {
				parts = append(parts, key+": "+part(s.of[0]))
			}
		}
		if depth > 0 && g.chance(15) {
			parts = append([]string{"..." + g.expression(s, depth-1)}, parts...)
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	case "record":
		return g.recordValue(s, depth)
	case "fn":
		x := g.name("p")
		g.scope = append(g.scope, variable{x, s.of[0]})
		body := g.expression(s.of[1], depth-1)
		g.scope = g.scope[:len(g.scope)-1]
		return "(fn(" + x + ": " + g.text(s.of[0]) + ") = " + body + ")"
	}
	return "null"
}

// ended writes a value of a type that contains itself, without going on in it.
func (g *generator) ended(s shape) string {
	switch s.kind {
	case "list", "set":
		return "[]"
	case "map":
		return "{}"
	case "union":
		return g.ended(s.of[len(s.of)-1])
	case "record":
		var parts []string
		for _, f := range s.fields {
			if !f.optional && f.fallback == "" {
				parts = append(parts, f.name+": "+g.ended(f.of))
			}
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	case "tuple":
		return "[" + g.ended(s.of[0]) + ", " + g.ended(s.of[1]) + "]"
	case "named", "any", "fn":
		return "null"
	}
	return g.value(s, -1)
}

func (g *generator) recordValue(s shape, depth int) string {
	var parts []string
	for _, f := range s.fields {
		if (f.optional || f.fallback != "") && g.chance(50) {
			continue
		}
		if f.optional && depth > 0 && g.chance(25) {
			parts = append(parts, f.name+": "+g.expression(shape{kind: "union", of: []shape{f.of, {kind: "null"}}},
				depth-1)+"?")
			continue
		}
		parts = append(parts, f.name+": "+g.expression(f.of, depth-1))
	}
	if g.chance(15) {
		g.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
	}
	if depth > 0 && g.chance(20) {
		spread := "..." + g.operand(s, depth-1)
		if g.chance(30) {
			spread = "...if " + g.condition(depth-1) + " then " + g.operand(s, depth-1)
		}
		parts = append([]string{spread}, parts...)
		if g.chance(25) {
			parts = append(parts, `"${`+g.expression(shape{kind: "string"}, depth-1)+`}": `+g.expression(g.shape(1),
				depth-1))
		}
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

// condition writes a bool.
func (g *generator) condition(depth int) string { return g.operand(shape{kind: "bool"}, depth) }

// operand writes an expression that is beside an operator.
func (g *generator) operand(s shape, depth int) string { return "(" + g.expression(s, depth) + ")" }

// expression writes an expression of a type.
func (g *generator) expression(s shape, depth int) string {
	if g.IntN(150) == 0 && depth > 0 {
		s = g.shape(1) // which need not fit
	}
	if g.chance(45) {
		if v, ok := g.variable(s); ok {
			return v
		}
	}
	if s.kind == "any" && g.chance(50) && g.unknown != "" {
		return g.unknown
	}
	if depth <= 0 {
		return g.value(s, depth)
	}
	return g.pick(
		func() string { return g.value(s, depth) },
		func() string { return g.value(s, depth) },
		func() string {
			return "if " + g.condition(depth-1) + " then " + g.expression(s, depth-1) + " else " + g.expression(s,
				depth-1)
		},
		func() string { return g.narrowing(s, depth) },
		func() string { return g.narrowing(s, depth) },
		func() string { return g.step(s, depth) },
		func() string { return g.step(s, depth) },
		func() string { return g.special(s, depth) },
		func() string { return g.special(s, depth) },
		func() string { return g.patch(s, depth) },
		func() string { return g.call(s, depth) },
		func() string {
			x, of := g.name("l"), g.shape(2)
			declared := ""
			if g.chance(40) {
				declared = ": " + g.text(of)
			}
			bound := g.expression(of, depth-1)
			g.scope = append(g.scope, variable{x, of})
			body := g.expression(s, depth-1)
			g.scope = g.scope[:len(g.scope)-1]
			return "(let " + x + declared + " = " + bound + " then " + body + ")"
		},
		func() string { return g.maybe(s, depth-1) + " ?? " + g.operand(s, depth-1) },
		func() string {
			if s.kind == "fn" {
				return g.value(s, depth)
			}
			x, from, of := g.name("l"), shape{kind: "any"}, s
			if g.chance(60) { // a known type, of which some values are of the one that is asked for
				if from = g.wider(s); g.chance(50) {
					of = from
				}
			}
			return "(let " + x + ": " + g.text(from) + " = " + g.expression(of, depth-1) + " then " + x + " as (" +
				g.text(s) + "))"
		},
	)
}

// same reports whether two types are written in the same way.
func (g *generator) same(a, b shape) bool { return g.text(a) == g.text(b) }

// variable takes a name that is in scope and of a type, or a part of one.
func (g *generator) variable(s shape) (string, bool) {
	var fitting []string
	for _, v := range g.scope {
		if g.same(v.of, s) || v.of.kind == "any" && g.chance(4) {
			fitting = append(fitting, v.name)
		}
		if v.of.kind == "record" {
			for _, f := range v.of.fields {
				switch {
				case !g.same(f.of, s):
				case f.optional:
					fitting = append(fitting, "("+v.name+"."+f.name+" ?? "+g.literal(s, 0)+")")
				default:
					fitting = append(fitting, v.name+"."+f.name)
				}
			}
		}
	}
	if len(fitting) == 0 {
		return "", false
	}
	return fitting[g.IntN(len(fitting))], true
}

// maybe writes an operand that may be null.
func (g *generator) maybe(s shape, depth int) string {
	orNull := shape{kind: "union", of: []shape{s, {kind: "null"}}}
	if v, ok := g.variable(orNull); ok {
		return v
	}
	return "(if " + g.condition(depth-1) + " then " + g.expression(s, depth-1) + " else null)"
}

// related makes a type that has values in common with another.
func (g *generator) related(s shape) shape {
	switch s.kind {
	case "union":
		return s.of[g.IntN(len(s.of))]
	case "named":
		if g.chance(50) {
			return s
		}
		return g.related(g.types[s.named].is)
	case "any":
		return g.shape(2)
	case "list", "set", "map":
		return shape{kind: []string{s.kind, "list"}[g.IntN(2)], of: []shape{g.related(s.of[0])}}
	case "record":
		return g.record(1)
	case "float":
		return shape{kind: []string{"float", "int"}[g.IntN(2)]}
	case "text":
		return shape{kind: "string"}
	}
	return s
}

// wider makes a type to which a type is assignable, but which need not be assignable to it.
func (g *generator) wider(s shape) shape {
	part := func(s shape) shape {
		if s.kind == "named" { // which may be recursive
			return s
		}
		return g.wider(s)
	}
	switch s.kind {
	case "int":
		return shape{kind: "float"}
	case "text":
		return shape{kind: "string"}
	case "named":
		return g.wider(g.types[s.named].is)
	case "list", "set", "map":
		return shape{kind: map[string]string{"list": "list", "set": "list", "map": "map"}[s.kind],
			of: []shape{part(s.of[0])}}
	case "record":
		wide := s
		wide.fields = slices.Clone(s.fields)
		for i := range wide.fields {
			if f := &wide.fields[i]; g.chance(60) {
				f.of, f.fallback = part(f.of), ""
			}
		}
		return wide
	}
	return shape{kind: "union", of: []shape{s, g.shape(1)}}
}

// narrowing writes a branch in which more is known of a name.
func (g *generator) narrowing(s shape, depth int) string {
	if len(g.scope) == 0 {
		return g.value(s, depth)
	}
	at := g.IntN(len(g.scope))
	for range 3 { // rather one of which something may be asked
		if k := g.scope[at].of.kind; k == "union" || k == "any" || k == "record" || k == "named" {
			break
		}
		at = g.IntN(len(g.scope))
	}
	v := g.scope[at]
	asked := g.related(v.of)
	if asked.kind == "fn" {
		return g.value(s, depth)
	}
	condition := v.name + " is (" + g.text(asked) + ")"
	narrowed, left := variable{v.name, asked}, v
	if v.of.kind == "union" {
		left = variable{v.name, v.of.of[g.IntN(len(v.of.of))]}
	}
	switch {
	case v.of.kind == "union" && v.of.of[1].kind == "null" && g.chance(40):
		condition, narrowed, left = v.name+" != null", variable{v.name, v.of.of[0]}, variable{v.name,
			shape{kind: "null"}}
	case v.of.kind == "record" && len(v.of.fields) > 0 && g.chance(40):
		f := v.of.fields[g.IntN(len(v.of.fields))]
		condition = fmt.Sprintf("%q in %s", f.name, v.name)
		full := v.of
		full.fields = append([]fieldShape(nil), v.of.fields...)
		for i := range full.fields {
			if full.fields[i].name == f.name {
				full.fields[i].optional = false
			}
		}
		narrowed = variable{v.name, full}
	case v.of.kind == "string" || v.of.kind == "text":
		condition, narrowed = v.name+` == "a"`, v
	}
	if g.chance(15) {
		condition = "not (" + condition + ")"
		narrowed, left = left, narrowed
	}
	if g.chance(15) {
		condition = "(" + condition + ") " + []string{"and", "or"}[g.IntN(2)] + " " + g.condition(depth-1)
	}
	g.scope[at] = narrowed
	then := g.expression(s, depth-1)
	g.scope[at] = left
	other := g.expression(s, depth-1)
	g.scope[at] = v
	if strings.Contains(condition, " is (") && !strings.Contains(condition, "not (") && !strings.HasPrefix(condition,
		"(") && g.chance(30) {
		return "match " + v.name + " { is (" + g.text(asked) + ") -> " + then + ", else -> " + other + " }"
	}
	return "(if " + condition + " then " + then + " else " + other + ")"
}

// step writes a step into something that holds a value of a type.
func (g *generator) step(s shape, depth int) string {
	field := fieldNames[g.IntN(len(fieldNames))]
	holder := shape{kind: "record", fields: []fieldShape{{name: field, of: s}}}
	optional := shape{kind: "record", fields: []fieldShape{{name: field, of: s, optional: true}}}
	return g.pick(
		func() string { return g.operand(holder, depth-1) + "." + field },
		func() string {
			x := g.name("r")
			return "(let " + x + ": " + g.text(optional) + " = " + g.expression(optional,
				depth-1) + " then " + x + "." + field + " ?? " + g.operand(s, depth-1) + ")"
		},
		func() string {
			return "(" + g.maybe(holder, depth-1) + "?." + field + " ?? " + g.operand(s, depth-1) + ")"
		},
		func() string {
			return "(" + g.maybe(shape{kind: "record", fields: []fieldShape{{name: "a", of: holder}}},
				depth-1) + "?.a." + field + " ?? " + g.operand(s, depth-1) + ")"
		},
		func() string {
			return "({ ..." + g.operand(shape{kind: "map", of: []shape{s}}, depth-1) + ", a: " + g.expression(s,
				depth-1) + ` })["a"]`
		},
		func() string {
			x, of := g.name("r"), shape{kind: "map", of: []shape{s}}
			return "(let " + x + ": " + g.text(of) + " = " + g.expression(of,
				depth-1) + " then " + x + `?.b ?? ` + g.operand(s, depth-1) + ")"
		},
		func() string { return g.operand(shape{kind: "list", of: []shape{s}}, depth-1) + "[0]" },
		func() string {
			return "(" + g.operand(shape{kind: "list", of: []shape{s}}, depth-1) + "?[0] ?? " + g.operand(s,
				depth-1) + ")"
		},
		func() string { return g.operand(shape{kind: "tuple", of: []shape{s, g.shape(1)}}, depth-1) + "[0]" },
	)
}

// special writes what only one kind of type has.
func (g *generator) special(s shape, depth int) string {
	of := func(kind string) string { return g.operand(shape{kind: kind}, depth-1) }
	switch s.kind {
	case "int":
		return of("int") + " " + []string{"+", "-", "*"}[g.IntN(3)] + " " + of("int")
	case "float":
		return of("float") + " + " + of([]string{"int", "float"}[g.IntN(2)])
	case "string":
		return of("string") + " + " + of("string")
	case "bool":
		x := g.shape(1)
		return g.pick(
			func() string { return of("int") + " " + []string{"<", ">=", "=="}[g.IntN(3)] + " " + of("int") },
			func() string { return of("bool") + " " + []string{"and", "or"}[g.IntN(2)] + " " + of("bool") },
			func() string { return "not " + of("bool") },
			func() string {
				return of("string") + " in " + g.operand(shape{kind: "map", of: []shape{g.shape(1)}}, depth-1)
			},
			func() string {
				return g.operand(x, depth-1) + " in " + g.operand(shape{kind: "list", of: []shape{x}}, depth-1)
			},
			func() string { return g.operand(x, depth-1) + " == " + g.operand(x, depth-1) },
			func() string {
				if g.unknown == "" {
					return g.value(s, depth)
				}
				return g.unknown + " is (" + g.text(g.related(shape{kind: "any"})) + ")"
			},
		)
	case "list":
		return g.pick(
			func() string { return g.operand(s, depth-1) + " + " + g.operand(s, depth-1) },
			func() string {
				in := g.shape(1)
				x := g.name("e")
				loop := "for " + x + " in "
				source := shape{kind: []string{"list", "map"}[g.IntN(2)], of: []shape{in}}
				loop += g.operand(source, depth-1)
				g.scope = append(g.scope, variable{x, in})
				if g.chance(30) {
					loop += " where " + g.condition(depth-1)
				}
				body := g.expression(s.of[0], depth-1)
				g.scope = g.scope[:len(g.scope)-1]
				return "(" + loop + " -> " + body + ")"
			},
		)
	case "map":
		in, k, v := g.shape(1), g.name("k"), g.name("e")
		loop := "for " + k + ", " + v + " in " + g.operand(shape{kind: "map", of: []shape{in}}, depth-1)
		g.scope = append(g.scope, variable{k, shape{kind: "string"}}, variable{v, in})
		body := g.expression(s.of[0], depth-1)
		g.scope = g.scope[:len(g.scope)-2]
		return "(" + loop + ` -> "${` + k + `}": ` + body + ")"
	case "record":
		other := g.record(1)
		return g.pick(
			func() string { return g.operand(s, depth-1) + " with " + g.operand(other, depth-1) },
			func() string {
				if len(s.fields) == 0 {
					return g.value(s, depth)
				}
				f := s.fields[g.IntN(len(s.fields))]
				path := f.name
				if inner := f.of; inner.kind == "record" && len(inner.fields) > 0 && g.chance(50) {
					f = inner.fields[g.IntN(len(inner.fields))]
					path += "." + f.name
				} else if g.chance(15) {
					path = `"${` + g.expression(shape{kind: "string"}, depth-1) + `}"`
				}
				mark := ""
				if g.chance(20) {
					mark = "?"
				}
				return g.operand(s, depth-1) + " with { " + path + ": " + g.expression(f.of, depth-1) + mark + " }"
			},
		)
	}
	return g.value(s, depth)
}

// patch writes a value of a type in which places are changed, mostly into what they may be.
func (g *generator) patch(s shape, depth int) string {
	of := s
	for of.kind == "named" {
		of = g.types[of.named].is
	}
	if g.plain || !slices.Contains([]string{"record", "map", "list", "tuple"}, of.kind) {
		return g.special(s, depth)
	}
	var operations []string
	for range 1 + g.IntN(2) {
		path, place, there := g.place(of)
		if strings.Contains(path, "[end]") {
			operations = append(operations, "add "+path+": "+g.expression(place, depth-1))
			continue
		}
		if g.chance(5) {
			place = g.shape(1) // which need not fit
		}
		verb := []string{"put", "replace", "replace?", "merge?", "add?", "remove?"}[g.IntN(6)]
		if verb == "remove?" {
			operations = append(operations, verb+" "+path)
			continue
		}
		before := g.scope
		if there && verb != "add?" { // else it is null
			g.scope = append(g.scope[:len(g.scope):len(g.scope)], variable{"it", place})
		}
		operations = append(operations, verb+" "+path+": "+g.expression(place, depth-1))
		g.scope = before
	}
	return "(patch " + g.operand(s, depth-1) + " { " + strings.Join(operations, ", ") + " })"
}

// place writes a path into a value of a type, with the type of what is there and whether something does.
func (g *generator) place(s shape) (path string, of shape, there bool) {
	there = true
	switch s.kind {
	case "named":
		return g.place(g.types[s.named].is)
	case "record":
		if len(s.fields) == 0 {
			return ".a", g.shape(1), false
		}
		f := s.fields[g.IntN(len(s.fields))]
		path, of, there = "."+f.name, f.of, !f.optional
		if g.chance(10) {
			path = ".*"
		}
	case "map":
		path, of, there = []string{".a", ".*", `."z"`}[g.IntN(3)], s.of[0], false
	case "list", "tuple":
		paths := []string{"[*]", "[0]", "[end]", "[it == it]", "[* where it != null]"}
		path, of, there = paths[g.IntN(len(paths))], s.of[0], false
	default:
		return ".a", g.shape(1), false
	}
	if g.chance(40) && slices.Contains([]string{"record", "map", "list", "named"}, of.kind) {
		rest, inner, deeper := g.place(of)
		return path + rest, inner, there && deeper
	}
	return path, of, there
}

// call writes the call of a function that returns a type.
func (g *generator) call(s shape, depth int) string {
	in := g.shape(1)
	list := func(s shape) shape { return shape{kind: "list", of: []shape{s}} }
	fn := func(from, to shape) shape { return shape{kind: "fn", of: []shape{from, to}} }
	for _, f := range g.functions {
		if g.same(f.result, s) && g.chance(60) {
			arguments := make([]string, len(f.parameters))
			for i, p := range f.parameters {
				arguments[i] = g.expression(p, depth-1)
			}
			return f.name + "(" + strings.Join(arguments, ", ") + ")"
		}
	}
	// A declared function may stand for any that takes and gives something like it.
	function := func(from, to shape) string {
		for _, f := range g.functions {
			if len(f.parameters) == 1 && (g.same(f.parameters[0], from) && g.same(f.result, to) || g.chance(8)) {
				return f.name
			}
		}
		if g.chance(40) { // whose parameter is known from where it is
			x := g.name("p")
			g.scope = append(g.scope, variable{x, from})
			body := g.expression(to, depth-1)
			g.scope = g.scope[:len(g.scope)-1]
			return "fn(" + x + ") = " + body
		}
		return g.expression(fn(from, to), depth-1)
	}
	options := []func() string{
		func() string { return g.operand(fn(in, s), depth-1) + "(" + g.expression(in, depth-1) + ")" },
		func() string { return "list.map(" + g.expression(list(in), depth-1) + ", " + function(in, s) + ")[0]" },
		func() string {
			return "(list.find(" + g.expression(list(s), depth-1) + ", " + function(s,
				shape{kind: "bool"}) + ") ?? " + g.operand(s, depth-1) + ")"
		},
		func() string {
			return "(list.first(" + g.expression(list(s), depth-1) + ") ?? " + g.operand(s, depth-1) + ")"
		},
		func() string {
			return "(record.get(" + g.expression(shape{kind: "map", of: []shape{s}},
				depth-1) + `, "a") ?? ` + g.operand(s, depth-1) + ")"
		},
	}
	if !g.plain || slices.Contains(scalarKinds,
		s.kind) { // of others the naive evaluator does not know the type of the start
		options = append(options,
			func() string {
				a, b := g.name("q"), g.name("q")
				g.scope = append(g.scope, variable{a, s}, variable{b, in})
				body := g.expression(s, depth-1)
				g.scope = g.scope[:len(g.scope)-2]
				return "list.fold(" + g.expression(list(in), depth-1) + ", " + g.expression(s,
					depth-1) + ", fn(" + a + ", " + b + ") = " + body + ")"
			},
		)
	}
	switch s.kind {
	case "list":
		options = append(options,
			func() string {
				return "list.map(" + g.expression(list(in), depth-1) + ", " + function(in, s.of[0]) + ")"
			},
			func() string {
				return "list.filter(" + g.expression(s, depth-1) + ", " + function(s.of[0], shape{kind: "bool"}) + ")"
			},
			func() string { return "list.reverse(" + g.expression(s, depth-1) + ")" },
			func() string { return "record.values(" + g.expression(shape{kind: "map", of: s.of}, depth-1) + ")" },
			func() string { return "list.flatten(" + g.expression(list(s), depth-1) + ")" },
		)
	case "map":
		options = append(options,
			func() string {
				return "record.map_values(" + g.expression(shape{kind: "map", of: []shape{in}},
					depth-1) + ", " + function(in, s.of[0]) + ")"
			},
		)
	case "int":
		options = append(options, func() string { return "list.length(" + g.expression(list(in), depth-1) + ")" })
	case "string":
		options = append(options, func() string { return "text.upper(" + g.expression(s, depth-1) + ")" })
	}
	return g.pick(options...)
}
