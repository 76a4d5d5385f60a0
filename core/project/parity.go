package project

import (
	"strings"

	"knothole/core/source"
	"knothole/core/value"
)

// Parity says that environments are to be alike, but for some places.
type Parity struct {
	Environments []string
	MayDiffer    []Allowed
	Span         source.Span
}

// Allowed is a place at which environments may differ: a path in the documents whose paths match a pattern.
type Allowed struct {
	Documents, Place string
	Text             string
	Span             source.Span
}

// Parity returns the groups of environments that are to be alike.
func (p *Project) Parity() []Parity { return p.parity }

// readParity reads [[parity]] of the project file. That the environments are there is looked at when all are known.
func (p *Project) readParity(top *configuration) {
	list, ok := top.get("parity", value.List)
	if !ok {
		return
	}
	for _, table := range list.Elements() {
		if table.Kind() != value.Record {
			p.report(source.WrongType, source.At(table.Origin().Pos()), "write a table: [[parity]]",
				"an entry of parity is a table, not %s", table.Show(40))
			continue
		}
		c := &configuration{p, "[[parity]]", table}
		c.known("environments", "may_differ")
		one := Parity{Span: c.keyOf(table)}
		for _, v := range c.texts("environments", "names of environments") {
			if e := p.Environment(v.Text()); e == nil || e.Abstract {
				c.report(source.UnknownEnvironment, source.At(v.Origin().Pos()),
					source.Suggest(v.Text(), p.concreteNames(), ""),
					"there is no environment %q that is rendered", v.Text())
				continue
			}
			one.Environments = append(one.Environments, v.Text())
		}
		for _, v := range c.texts("may_differ", "paths in documents") {
			documents, place, found := strings.Cut(v.Text(), ": ")
			if !found {
				c.report(source.WrongType, source.At(v.Origin().Pos()), `write: "k8s/*: spec.replicas"`,
					"an allowed difference names documents and a path in them, with a colon "+
						"and a space between")
				continue
			}
			one.MayDiffer = append(one.MayDiffer, Allowed{documents,
				strings.TrimSuffix(strings.TrimSpace(place), ".**"),
				v.Text(), source.At(v.Origin().Pos())})
		}
		if len(one.Environments) < 2 {
			c.report(source.MissingField, one.Span, `write: environments = ["north", "south"]`,
				"an entry of [[parity]] names the environments that must be the same, two at least")
			continue
		}
		p.parity = append(p.parity, one)
	}
}

func (p *Project) concreteNames() []string {
	var names []string
	for _, e := range p.Concrete() {
		names = append(names, e.Name)
	}
	return names
}
