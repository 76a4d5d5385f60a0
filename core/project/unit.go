package project

import (
	"slices"

	"knothole/core/check"
	"knothole/core/source"
)

// Unit is a main module with its inputs, from which environments are rendered. Environments with the same main module
// share one.
type Unit struct {
	Project *Project
	Main    string        // the path of the main module
	Module  *check.Module // nil if it could not be read

	span source.Span // where the project file names it
}

// Inputs returns the inputs of the main module in the order of their declaration.
func (u *Unit) Inputs() []*check.Object {
	if u.Module == nil {
		return nil
	}
	var inputs []*check.Object
	for _, o := range u.Module.Order {
		if o.Kind == check.ObjectInput && u.Module.Objects[o.Name] == o {
			inputs = append(inputs, o)
		}
	}
	return inputs
}

// Unit returns the unit of the project's main module.
func (p *Project) Unit() *Unit { return p.Units[0] }

// unit returns the unit of a main module, which is made when there is none.
func (p *Project) unit(main string, span source.Span) *Unit {
	for _, u := range p.Units {
		if u.Main == main {
			return u
		}
	}
	u := &Unit{Project: p, Main: main, span: span}
	p.Units = append(p.Units, u)
	return u
}

// units returns the units whose inputs the layers of an environment give: of an abstract one, those of all that extend
// it.
func (p *Project) unitsOf(e *Environment) (units []*Unit) {
	if !e.Abstract {
		return []*Unit{e.Unit}
	}
	for _, other := range p.Concrete() {
		for at := other.Extends; at != nil; at = at.Extends {
			if at.Name == e.Name && !slices.Contains(units, other.Unit) {
				units = append(units, other.Unit)
			}
		}
	}
	if units == nil {
		units = []*Unit{e.Unit}
	}
	return units
}
