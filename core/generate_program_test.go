package core_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// project writes a main module, a library of types and functions, and a component.
func (g *generator) project() map[string]string {
	files := map[string]string{}
	var lib strings.Builder
	g.declareTypes(&lib)
	for range 1 + g.IntN(2) {
		g.declareFunction(&lib, nil)
	}
	files["lib.knot"] = lib.String()
	types, functions := len(g.types), len(g.functions)
	for i := range types {
		g.types[i].name = "lib." + g.types[i].name
	}
	for i := range functions {
		g.functions[i].name = "lib." + g.functions[i].name
	}
	part := strings.Builder{}
	part.WriteString("use \"./lib.knot\" as lib\n")
	inputs, outputs := g.shapes(2), g.shapes(2)
	for i, s := range inputs {
		fallback := ""
		if g.chance(30) {
			fallback = " = " + g.literal(s, 1)
		}
		name := fmt.Sprintf("x%d", i)
		fmt.Fprintf(&part, "input %s: %s%s\n", name, g.text(s), fallback)
		g.scope = append(g.scope, variable{name, s})
	}
	for i, s := range outputs {
		fmt.Fprintf(&part, "output y%d: %s = %s\n", i, g.text(s), g.expression(s, 3))
	}
	files["part.knot"] = part.String()
	g.scope = nil
	files["main.knot"] = "use \"./lib.knot\" as lib\nuse \"./part.knot\" as part\n" +
		g.module(func(b *strings.Builder) {
			for i := range 1 + g.IntN(2) {
				name := fmt.Sprintf("c%d", i)
				var arguments []string
				for j, s := range inputs {
					arguments = append(arguments, fmt.Sprintf("x%d: %s", j, g.expression(s, 3)))
				}
				fmt.Fprintf(b, "let %s = part(%s)\n", name, strings.Join(arguments, ", "))
				for j, s := range outputs {
					g.scope = append(g.scope, variable{fmt.Sprintf("%s.y%d", name, j), s})
				}
			}
		})
	return files
}

// shapes makes some types.
func (g *generator) shapes(depth int) []shape {
	made := make([]shape, 1+g.IntN(2))
	for i := range made {
		made[i] = g.shape(depth)
	}
	return made
}

// program writes a module: types, inputs, functions, values that are declared and values that are not.
func (g *generator) program() string {
	return g.module(func(*strings.Builder) {})
}

// module is program with something more that is declared after the inputs.
func (g *generator) module(more func(b *strings.Builder)) string {
	var b strings.Builder
	g.declareTypes(&b)
	for i := range 2 + g.IntN(3) {
		s := g.shape(2)
		name := fmt.Sprintf("i%d", i)
		if i == 0 {
			s = shape{kind: "any"}
		}
		value := g.literal(s, 1)
		fmt.Fprintf(&b, "input %s: %s = %s\n", name, g.text(s), value)
		g.scope = append(g.scope, variable{name, s})
	}
	g.unknown = "i0"
	more(&b)
	global := g.scope
	for range 1 + g.IntN(3) {
		g.declareFunction(&b, global)
	}
	g.scope = append([]variable(nil), global...)
	for i := range 4 + g.IntN(5) {
		s := g.shape(2)
		if g.chance(15) {
			s = shape{kind: "fn", of: []shape{g.shape(1), g.shape(1)}}
		}
		name, declared := fmt.Sprintf("v%d", i), ""
		if g.chance(65) {
			declared = ": " + g.text(s)
		}
		fmt.Fprintf(&b, "let %s%s = %s\n", name, declared, g.expression(s, 4))
		g.scope = append(g.scope, variable{name, s})
	}
	for i, v := range g.scope {
		if v.of.kind != "fn" {
			fmt.Fprintf(&b, "output o%d = %s\n", i, v.name)
		}
	}
	return b.String()
}

// declareFunction writes a function that sees some names.
func (g *generator) declareFunction(b *strings.Builder, global []variable) {
	f := functionShape{name: g.name("f"), result: g.shape(2)}
	var parameters []string
	g.scope = append([]variable(nil), global...)
	for range 1 + g.IntN(2) {
		p := g.shape(2)
		name := g.name("p")
		parameters = append(parameters, name+": "+g.text(p))
		f.parameters = append(f.parameters, p)
		g.scope = append(g.scope, variable{name, p})
	}
	result := ""
	if g.chance(80) {
		result = " -> " + g.text(f.result)
	}
	fmt.Fprintf(b, "fn %s(%s)%s = %s\n", f.name, strings.Join(parameters, ", "), result, g.expression(f.result, 3))
	g.functions = append(g.functions, f)
	g.scope = nil
}

// declareTypes writes some types.
func (g *generator) declareTypes(b *strings.Builder) {
	for range 1 + g.IntN(3) {
		i := len(g.types)
		n := namedShape{name: fmt.Sprintf("T%d", i)}
		switch g.IntN(6) {
		case 0:
			n.is, n.where = shape{kind: "int"}, " where it in -9..40"
		case 1:
			n.is = shape{kind: "union", of: []shape{g.record(1), g.record(1)}}
		case 2:
			g.types = append(g.types, n)
			n.is = g.recursive(i)
			g.types = g.types[:i]
		default:
			n.is = g.record(2)
		}
		g.types = append(g.types, n)
		fmt.Fprintf(b, "type %s = %s%s\n", n.name, g.text(n.is), n.where)
	}
}

// newGenerator returns a generator that always makes the same of a seed.
func newGenerator(seed uint64) *generator {
	return &generator{Rand: rand.New(rand.NewPCG(seed, 1))}
}
