package check

import (
	"regexp"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

func (c *checker) interpolated(e syntax.Expression) {
	t := c.infer(e, nil)
	scalars := c.universe.Union(types.String, types.Int, types.Float, types.Bool)
	if types.Assignable(t, scalars) {
		return
	}
	help := "encode it, for example with encode.json"
	if types.MayBeNull(t) {
		help = "it may be null: give a string for that case with ??"
	}
	c.addWith(help, NotInserted(e.Place(), types.Describe(t)))
}

// interpolatedLine checks what is alone on a line of a text: a text of any number of lines, a list with one for
// each, or null.
func (c *checker) interpolatedLine(e syntax.Expression) {
	t := (types.Type)(nil)
	if conditional, ok := e.(*syntax.If); ok {
		t = c.inferIf(conditional, nil, true)
		c.module.Info.Types[e.ID()] = t
	} else {
		t = c.infer(e, nil)
	}
	scalars := c.universe.Union(types.String, types.Int, types.Float, types.Bool)
	if !types.Assignable(t, c.universe.Union(scalars, c.universe.List(scalars), types.Null)) {
		c.add(NotLines(e.Place(), types.Describe(t)))
	}
}

// insertedName is the beginning of an insert and the name that it begins with.
var insertedName = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)[^{}]*\}`)

// warnNotInserted warns of a text in single quotes that holds an insert with a name that is known here.
func (c *checker) warnNotInserted(e syntax.Expression) {
	written := c.text(e)
	if _, ok := e.(*syntax.String); !ok || written[0] != '\'' || strings.HasPrefix(written, "'''") {
		return
	}
	for _, m := range insertedName.FindAllStringSubmatch(written, -1) {
		if c.local(m[1]) || c.module.Objects[m[1]] != nil {
			c.warn(source.NotInserted, e.Place(), `put it in double quotes; there, \$ is a dollar sign`,
				"nothing is inserted into a string in single quotes: %s stays as it is", m[0])
			return
		}
	}
}

// checkPattern reports a regular expression that is written out and wrong.
func (c *checker) checkPattern(e syntax.Expression) {
	s, ok := e.(*syntax.String)
	if !ok {
		return
	}
	if pattern, plain := s.Plain(); plain {
		if _, err := regexp.Compile(pattern); err != nil {
			c.add(BadPattern(e.Place(), err))
		}
	}
}

// PatternMistake returns what is wrong with a pattern, in the words of the reader of patterns, without its prefix.
func PatternMistake(err error) string {
	return strings.TrimPrefix(err.Error(), "error parsing regexp: ")
}
