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
	return c.universe.Union(then, other)
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
	return c.universe.Union(results...)
}

// matchArms checks the subject and the arms of a match; value is called for the value of each arm.
func (c *checker) matchArms(e *syntax.Match, value func(syntax.Expression)) {
	subject := c.infer(e.Subject, nil)
	outer := c.it
	c.it = &Object{Kind: ObjectLocal, Name: "it", Module: c.module, Type: subject, Slot: c.owner.Frame, Global: -1,
		state: resolved}
	c.owner.Frame++
	defer func() { c.it = outer }()
	c.module.Info.Locals[e.Place().Start] = c.it

	left := types.Alternatives(subject)
	for i := 0; i < len(left); i++ {
		if types.Core(left[i]) == types.Bool {
			left = append(left[:i], append([]types.Type{c.universe.Literal(true), c.universe.Literal(false)},
				left[i+1:]...)...)
		}
	}
	unbounded := func(t types.Type) bool {
		return types.LiteralValue(types.Core(t)) == nil && types.Core(t) != types.Null
	}
	open := slices.ContainsFunc(left, unbounded)
	// A single literal stands for its type: `let debug = false` may change tomorrow.
	single := types.LiteralValue(subject) != nil && !isEnvironmentName(e.Subject)
	seen := map[any]bool{}
	closed := false
	for _, arm := range e.Arms {
		if closed {
			c.report(source.UnreachableArm, arm.Span, "put it before else, or remove it",
				"nothing reaches this arm: else comes before it")
		}
		var covered []types.Type
		for _, pattern := range arm.Patterns {
			if is, ok := pattern.(*syntax.Is); ok {
				asked := c.typeOf(is.Type)
				c.module.Info.Asked[is.ID()] = asked
				if subject != types.Invalid && asked != types.Invalid && !single && !types.Overlap(subject, asked) {
					c.report(source.UnreachableArm, is.Place(), "remove it", "this can never be %s",
						types.Article(asked))
				}
				covered = append(covered, c.covered(subject, c.restrict(subject, asked, true)))
				left = slices.DeleteFunc(left, func(p types.Type) bool { return types.Fits(p, asked) })
				open = slices.ContainsFunc(left, unbounded)
				continue
			}
			t := c.infer(pattern, nil)
			key := types.LiteralValue(t)
			switch {
			case seen[key]:
				c.report(source.UnreachableArm, pattern.Place(), "remove it",
					"nothing reaches %s here: an arm above has it already", t)
			case subject != types.Invalid && !single && !types.Overlap(subject, t):
				help := ""
				if text, ok := types.LiteralValue(t).(string); ok {
					help = nearestText(text, subject)
				}
				c.report(source.UnreachableArm, pattern.Place(), help, "this can never be %s", t)
			}
			seen[key] = true
			covered = append(covered, c.covered(subject, c.restrictEqual(subject, t, true)))
			left = slices.DeleteFunc(left, func(p types.Type) bool { return types.Core(p) == t })
		}
		whole := c.it.Type
		if arm.Else {
			if len(left) == 0 && !closed && subject != types.Invalid && !single {
				c.report(source.UnreachableArm, arm.Span,
					"remove it, so that a value that is added later is not forgotten",
					"nothing reaches else: the arms above name every %s", subject)
			}
			closed = true
			if len(left) > 0 {
				c.it.Type = c.universe.Union(left...)
			}
		} else if len(covered) > 0 {
			c.it.Type = c.universe.Union(covered...)
		}
		outer := c.facts
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
		c.it.Type, c.facts = whole, outer
	}
	if closed || subject == types.Invalid || len(left) == 0 {
		return
	}
	if open && !slices.ContainsFunc(left,
		func(t types.Type) bool { return types.AsRecord(t) != nil || types.AsList(t) != nil }) {
		c.report(source.IncompleteMatch, e.Place(), `add an arm: else -> …`,
			"this match needs else: it cannot name every %s", subject)
		return
	}
	var missing, arms []string
	for _, t := range left {
		missing = append(missing, t.String())
		arm := t.String()
		if _, named := t.(*types.Named); named {
			arm = "is " + arm
		} else if unbounded(t) {
			arm = "is (" + arm + ")"
		}
		arms = append(arms, arm+" -> …")
	}
	c.report(source.IncompleteMatch, source.Span{Start: e.Place().Start, End: e.Subject.Place().End},
		"add "+strings.Join(arms, ", ")+", or else -> …",
		"this match leaves out %s", strings.Join(missing, ", "))
}

// covered is what an arm is for: what is left of the subject, or all of it when that cannot be told.
func (c *checker) covered(subject, left types.Type) types.Type {
	if left == nil {
		return subject
	}
	return left
}
