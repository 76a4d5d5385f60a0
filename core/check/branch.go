package check

import (
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

func (c *checker) checkIf(e *syntax.If, want types.Type, what string) {
	c.check(e.Condition, types.Bool, "a condition")
	facts := c.facts
	c.assume(e.Condition, true)
	c.check(e.Then, want, what)
	c.facts = facts
	if e.Else != nil {
		c.assume(e.Condition, false)
		c.check(e.Else, want, what)
		c.facts = facts
	}
	c.module.Info.Types[e.ID()] = want
}

// inferIf finds the type of an if. Behind `...` the else may be missing: spread says so, and the other case is then
// an empty record or list, which adds nothing to the type but that all of it may be absent.
func (c *checker) inferIf(e *syntax.If, want types.Type, spread bool) types.Type {
	c.check(e.Condition, types.Bool, "a condition")
	facts := c.facts
	c.assume(e.Condition, true)
	then := c.inferBranch(e.Then, want, spread)
	c.facts = facts
	if e.Else == nil {
		if core := types.Core(then); types.AsRecord(core) == nil && types.AsList(core) == nil { // on a line of a text
			return c.universe.Optional(then)
		}
		return c.universe.Partial(then)
	}
	c.assume(e.Condition, false)
	other := c.inferBranch(e.Else, want, spread)
	c.facts = facts
	if spread && then != other {
		return c.universe.Either(then, other)
	}
	return c.universe.Gathered(then, other)
}

func (c *checker) inferBranch(e syntax.Expression, want types.Type, spread bool) types.Type {
	if inner, ok := e.(*syntax.If); ok && spread {
		t := c.inferIf(inner, want, true)
		c.module.Info.Types[e.ID()] = t
		return t
	}
	return c.infer(e, want)
}

func (c *checker) checkMatch(e *syntax.Match, want types.Type, what string) {
	c.matchArms(e, func(value syntax.Expression) { c.check(value, want, what) })
	c.module.Info.Types[e.ID()] = want
}

func (c *checker) inferMatch(e *syntax.Match) types.Type {
	var results []types.Type
	c.matchArms(e, func(value syntax.Expression) { results = append(results, c.infer(value, nil)) })
	return c.universe.Gathered(results...)
}

// matchArms checks the subject and the branches of a match; value is called for the value of each branch.
func (c *checker) matchArms(e *syntax.Match, value func(syntax.Expression)) {
	subject := c.infer(e.Subject, nil)
	outer := c.it
	c.it = &Object{Kind: ObjectLocal, Name: "it", Module: c.module, Type: subject, Slot: c.owner.Frame, Global: -1,
		state: resolved}
	c.owner.Frame++
	defer func() { c.it = outer }()
	c.module.Info.Locals[e.Place().Start] = c.it
	v := c.newCoverage(e, subject)
	for _, arm := range e.Arms {
		whole, facts := c.it.Type, c.facts
		if t := v.arm(arm); t != nil {
			c.it.Type = t
		}
		if narrowed := c.it.Type; narrowed != whole && narrowed != types.Invalid {
			if !types.MayBeNull(narrowed) {
				c.assumeThere(e.Subject)
			}
			if path, ok := c.pathOf(e.Subject); ok {
				c.know(path, narrowed)
			}
			c.assumeField(e.Subject, func(field types.Type) bool { return types.Overlap(field, narrowed) })
		}
		value(arm.Value)
		c.it.Type, c.facts = whole, facts
	}
	v.finish()
}

// coverage is which values of the subject of a match its branches have named so far.
type coverage struct {
	*checker
	match   *syntax.Match
	subject types.Type
	left    []types.Type // the alternatives that no branch has named yet
	open    bool         // among them are some of which a branch cannot name every value
	// single says that the subject is a single literal, which stands for its type: `let debug = false` may change
	// tomorrow.
	single bool
	seen   map[any]bool // the literals that were named
	closed bool         // by else
}

func (c *checker) newCoverage(e *syntax.Match, subject types.Type) *coverage {
	left := types.Alternatives(subject)
	for i := 0; i < len(left); i++ {
		if types.Core(left[i]) == types.Bool {
			left = slices.Replace(left, i, i+1, c.universe.Literal(true), c.universe.Literal(false))
		}
	}
	return &coverage{checker: c, match: e, subject: subject, left: left, open: slices.ContainsFunc(left, unbounded),
		single: types.LiteralValue(subject) != nil && !isEnvironmentName(e.Subject), seen: map[any]bool{}}
}

// unbounded reports whether a type has more values than branches can name.
func unbounded(t types.Type) bool {
	return types.LiteralValue(types.Core(t)) == nil && types.Core(t) != types.Null
}

// arm takes what a branch names from what is left, and returns what the subject is in it; nil when it tells nothing.
func (v *coverage) arm(arm *syntax.Arm) types.Type {
	if v.closed {
		v.report(source.UnreachableBranch, arm.Span, "put it before else, or remove it",
			"nothing reaches this branch: else comes before it")
	}
	var covered []types.Type
	for _, pattern := range arm.Patterns {
		if is, ok := pattern.(*syntax.Is); ok {
			covered = append(covered, v.is(is))
		} else {
			covered = append(covered, v.equal(pattern))
		}
	}
	switch {
	case arm.Else:
		return v.otherwise(arm)
	case len(covered) > 0:
		return v.universe.Union(covered...)
	}
	return nil
}

// is takes the values of a type from what is left.
func (v *coverage) is(pattern *syntax.Is) types.Type {
	asked := v.typeOf(pattern.Type)
	v.module.Info.Asked[pattern.ID()] = asked
	if v.subject != types.Invalid && asked != types.Invalid && !v.single && !types.Overlap(v.subject, asked) {
		v.report(source.UnreachableBranch, pattern.Place(), "remove it", "this can never be %s", types.Article(asked))
	}
	v.left = slices.DeleteFunc(v.left, func(p types.Type) bool { return types.Fits(p, asked) })
	v.open = slices.ContainsFunc(v.left, unbounded)
	return v.covered(v.subject, v.restrict(v.subject, asked, true))
}

// equal takes a literal from what is left.
func (v *coverage) equal(pattern syntax.Expression) types.Type {
	t := v.infer(pattern, nil)
	literal := types.LiteralValue(t)
	switch {
	case v.seen[literal]:
		v.report(source.UnreachableBranch, pattern.Place(), "remove it",
			"nothing reaches %s here: a branch above has it already", t)
	case v.subject != types.Invalid && !v.single && !types.Overlap(v.subject, t):
		help := ""
		if text, ok := literal.(string); ok {
			help = nearestText(text, v.subject)
		}
		v.report(source.UnreachableBranch, pattern.Place(), help, "this can never be %s", t)
	}
	v.seen[literal] = true
	v.left = slices.DeleteFunc(v.left, func(p types.Type) bool { return types.Core(p) == t })
	return v.covered(v.subject, v.restrictEqual(v.subject, t, true))
}

// otherwise takes all that is left.
func (v *coverage) otherwise(arm *syntax.Arm) types.Type {
	if len(v.left) == 0 && !v.closed && v.subject != types.Invalid && !v.single {
		v.report(source.UnreachableBranch, arm.Span, "remove it, so that a value that is added later is not forgotten",
			"nothing reaches else: the branches above name every %s", v.subject)
	}
	v.closed = true
	if len(v.left) == 0 {
		return nil
	}
	return v.universe.Union(v.left...)
}

// finish reports what no branch names.
func (v *coverage) finish() {
	if v.closed || v.subject == types.Invalid || len(v.left) == 0 {
		return
	}
	if v.open && !slices.ContainsFunc(v.left,
		func(t types.Type) bool { return types.AsRecord(t) != nil || types.AsList(t) != nil }) {
		v.report(source.IncompleteMatch, v.match.Place(), `add a branch: else -> …`,
			"this match needs else: it cannot name every %s", v.subject)
		return
	}
	var missing, arms []string
	for _, t := range v.left {
		missing = append(missing, t.String())
		arm := t.String()
		if _, named := t.(*types.Named); named {
			arm = "is " + arm
		} else if unbounded(t) {
			arm = "is (" + arm + ")"
		}
		arms = append(arms, arm+" -> …")
	}
	v.report(source.IncompleteMatch,
		source.Span{Start: v.match.Place().Start, End: v.match.Subject.Place().End},
		"add "+strings.Join(arms, ", ")+", or else -> …", "this match leaves out %s", strings.Join(missing, ", "))
}

// covered is what a branch is for: what is left of the subject, or all of it when that cannot be told.
func (c *checker) covered(subject, left types.Type) types.Type {
	if left == nil {
		return subject
	}
	return left
}
