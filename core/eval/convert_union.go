package eval

import (
	"slices"

	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

// trial is a value that was tried with a type.
type trial struct {
	shared
	fill bool
}

// tried is what a trial came to.
type tried struct {
	value   value.Value
	misfits []misfit
	tested  value.Value
}

// memoized is once in a trial, which also remembers what does not fit.
func (c *conversion) memoized(v value.Value, to types.Type, convert func() value.Value) value.Value {
	key := trial{shared{v.Identity(), v.Len(), to}, c.fill}
	if known, ok := c.tried[key]; ok {
		c.spend(1, source.At(c.recorder.Pos(v.Origin())))
		c.misfits = append(c.misfits, known.misfits...)
		c.test(known.tested)
		return known.value.WithOrigin(v.Origin())
	}
	before, outer := len(c.misfits), c.tested
	c.tested = value.Value{}
	result := convert()
	c.tried[key] = tried{result, slices.Clone(c.misfits[before:]), c.tested}
	c.test(outer)
	return result
}

// test notes that a trial tested a value that is hidden or open; an absent one is none.
func (c *conversion) test(v value.Value) {
	if !v.IsAbsent() {
		c.tested = v
	}
}

// attempt is a conversion that is only tried.
func (c *conversion) attempt(fill bool) *conversion {
	if c.tried == nil {
		c.tried = map[trial]tried{}
	}
	return &conversion{thread: c.thread, passing: c.passing, depth: c.depth, fill: fill, trial: true, tried: c.tried}
}

// fit says how a value fits a member of a union.
type fit int

const (
	never   fit = iota
	perhaps     // it depends on a value that is hidden or open
	certain
)

// fit says how the value of a trial fits.
func (c *conversion) fit() fit {
	switch {
	case slices.ContainsFunc(c.misfits, func(m misfit) bool { return !m.hidden }):
		return never
	case !c.tested.IsAbsent():
		return perhaps
	}
	return certain
}

// union takes the member that fits without defaults, else the only one that fits with them. Which it is must not
// depend on a value that is hidden or open, since the fields and defaults of a member are neither.
func (c *conversion) union(v value.Value, to *types.Union, path *place.Path) value.Value {
	if !c.fill { // any member that fits will do
		return c.anyOf(v, to, path)
	}
	if len(to.Members) == 2 && to.Members[1] == types.Null {
		if v.IsNull() {
			return v
		}
		return c.value(v, to.Members[0], path)
	}
	if v.Mark() != 0 && !c.trial {
		return c.scalarUnion(v, to, path)
	}
	// alone is the only member that it may fit without defaults; fitting are those that it may fit with them.
	var alone types.Type
	var result, tested value.Value
	var fitting []types.Type
	open := 0 // how many of these depend on what is hidden
	for _, member := range to.Members {
		t := c.attempt(false)
		plain := t.value(v, member, path)
		how := t.fit()
		switch {
		case how == certain && alone == nil:
			return plain
		case how != never && alone != nil:
			return c.undecided(v, tested, to, path)
		case how == perhaps:
			alone, tested = member, t.tested
			continue
		}
		t = c.attempt(true)
		filled := t.value(v, member, path)
		if how := t.fit(); how != never {
			fitting, result = append(fitting, member), filled
			if how == perhaps {
				open, tested = open+1, t.tested
			}
		}
	}
	switch {
	case alone != nil && len(fitting) > 0 || open > 0 && len(fitting) > 1:
		return c.undecided(v, tested, to, path)
	case alone != nil:
		return c.value(v, alone, path)
	case open > 0:
		return c.value(v, fitting[0], path)
	case len(fitting) == 1:
		return result
	case len(fitting) > 1:
		c.misfit(path, v, source.AmbiguousUnion, "write out the fields that distinguish them",
			"%s fits more than one of %s", describeValue(v), to)
		return v
	}
	if c.trial { // that nothing fits is all that is asked
		c.misfit(path, v, source.WrongType, "", "")
		return v
	}
	return c.fitsNone(v, to, path)
}

// anyOf tries a value that must fit a union as it is.
func (c *conversion) anyOf(v value.Value, to *types.Union, path *place.Path) value.Value {
	var tested value.Value
	fits := false
	for _, member := range to.Members {
		t := c.attempt(false)
		result := t.value(v, member, path)
		switch t.fit() {
		case certain:
			return result
		case perhaps:
			tested = t.tested
			fits = fits || len(t.misfits) == 0
		}
	}
	if tested.IsAbsent() {
		return c.wrongKind(path, v, to, "")
	}
	c.test(tested)
	if !fits {
		c.misfits = append(c.misfits, misfit{path: path, value: v, hidden: true})
	}
	return v
}

// scalarUnion converts a scalar that is hidden. Whatever the member, it stays what it is, so that none is chosen; but
// an int must not become a float where its value decides that it does.
func (c *conversion) scalarUnion(v value.Value, to *types.Union, path *place.Path) value.Value {
	if c.wavers(v, to, path) {
		return c.undecided(v, v, to, path)
	}
	for _, fill := range []bool{false, true} {
		for _, member := range to.Members {
			t := c.attempt(fill)
			if result := t.value(v, member, path); len(t.misfits) == 0 {
				return result
			}
		}
	}
	return c.fitsNone(v, to, path)
}

// wavers reports whether the value of a hidden int decides if it becomes a float in a union.
func (c *conversion) wavers(v value.Value, to *types.Union, path *place.Path) bool {
	if v.Kind() != value.Int {
		return false
	}
	stays, becomes := never, never // how it fits as an int, and as a float
	for _, member := range to.Members {
		t := c.attempt(false)
		t.value(v, member, path)
		stays = max(stays, t.fit())
		t = c.attempt(true)
		if t.value(v, member, path).Kind() == value.Float {
			becomes = max(becomes, t.fit())
		}
	}
	return stays == perhaps && becomes != never
}

// undecided reports that which member of a union is taken depends on a value that is hidden or open. A trial only notes
// it.
func (c *conversion) undecided(v, tested value.Value, to types.Type, path *place.Path) value.Value {
	if c.trial {
		c.test(tested)
		return v
	}
	c.misfit(path, v, source.HiddenDecision,
		"let the members differ in something that is not secret, such as a literal field",
		"which of %s is taken depends on a value that is %s", to, adjective(tested.Mark()))
	c.misfits[len(c.misfits)-1].related = c.cameFrom(tested, source.At(c.recorder.Pos(v.Origin())))
	return v
}

// fitsNone reports a value that fits no member of a union.
func (c *conversion) fitsNone(v value.Value, to *types.Union, path *place.Path) value.Value {
	// The nearest member is that of the same kind: of several records the one whose literal fields the value has, then
	// the one with the fewest misfits.
	var nearest types.Type
	best := [2]int{-1, 0}
	for _, member := range to.Members {
		record := types.AsRecord(member)
		if !(v.Kind() == value.Record && record != nil || v.Kind() == value.List && types.AsList(member) != nil) {
			continue
		}
		t := c.attempt(true)
		t.value(v, member, path)
		misfits := 0
		for _, m := range t.misfits {
			if !m.hidden {
				misfits++
			}
		}
		score := [2]int{literalFields(v, record), -misfits}
		if nearest == nil || score[0] > best[0] || score[0] == best[0] && score[1] > best[1] {
			nearest, best = member, score
		}
	}
	if nearest == nil && onlyLimited(v, to) != nil {
		nearest = onlyLimited(v, to)
	}
	if nearest != nil {
		return c.value(v, nearest, path)
	}
	help := ""
	if v.Kind() == value.String && !v.Secret() {
		help = source.Suggest(v.Text(), types.LiteralTexts(to), "")
	}
	return c.wrongKind(path, v, to, help)
}

// literalFields counts the fields of a record that have the literal their type demands.
func literalFields(v value.Value, t *types.Record) int {
	n := 0
	if t == nil {
		return n
	}
	for _, f := range t.Fields {
		x := v.Get(f.Name)
		if literal := types.LiteralValue(types.Core(f.Type)); literal != nil && x.Mark() == 0 && isLiteral(x, literal) {
			n++
		}
	}
	return n
}

// onlyLimited returns the member whose kind a scalar has, such as the limited int in `(int where …)?`.
func onlyLimited(v value.Value, to *types.Union) types.Type {
	for _, member := range to.Members {
		if types.AsLimited(member) != nil && v.Kind().String() == types.Core(member).String() {
			return member
		}
	}
	return nil
}
