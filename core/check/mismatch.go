package check

import (
	"fmt"
	"regexp"
	"slices"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// mismatch reports a wrong type, unless its parts were reported already.
func (c *checker) mismatch(e syntax.Expression, got, want types.Type, what string) {
	span := e.Place()
	help := ""
	switch {
	case got == types.Null:
		help = fmt.Sprintf("a type that takes null too is written %s?", want)
	case types.MayBeNull(got) && types.Assignable(c.universe.WithoutNull(got), want):
		help = "it may be null: give a value for that case with ??"
	case types.Core(want) == types.String && types.Overlap(got, c.universe.Union(types.Int, types.Float, types.Bool)):
		help = "insert it into a string: \"${…}\""
		if literal(e) {
			help = fmt.Sprintf("write it as a string: %q", c.text(e))
		}
	case types.Widen(got) == types.String && types.LiteralValue(got) != nil:
		text := types.LiteralValue(got).(string)
		number, _ := regexp.MatchString(`^-?[0-9]+(\.[0-9]+)?$`, text)
		if number && types.Overlap(want, c.universe.Union(types.Int, types.Float)) {
			help = "a number is written without quotes: " + text
		} else if types.Core(want) == types.Int || types.Core(want) == types.Float {
			help = "a number is written without quotes"
		} else if texts := types.LiteralTexts(want); len(texts) > 0 {
			help = c.suggestions.Suggest(text, texts, "possible values: "+source.Quoted(texts))
		}
	case misspeltKind(got, want) != "":
		help = misspeltKind(got, want)
	case types.Core(got) == types.Float && types.Core(want) == types.Int:
		help = "an int has no fraction"
	}
	where := ""
	if what != "" {
		where = " for " + what
	}
	because := ""
	if reason := types.Difference(got, want); reason != "" {
		because = ": " + reason
	}
	c.report(source.WrongType, span, help, "expected %s%s, found %s%s", types.Article(want), where, types.Describe(got),
		because)
}

// misspeltKind suggests what the literal field of a record, by which the members of a union are told apart, was meant
// to be.
func misspeltKind(got, union types.Type) string {
	record := types.AsRecord(got)
	if record == nil {
		return ""
	}
	for _, f := range record.Fields {
		text, ok := types.LiteralValue(f.Type).(string)
		if !ok {
			continue
		}
		var texts []string
		for _, part := range types.Parts(union) {
			member, ok := part.(*types.Record)
			if !ok {
				continue
			}
			if field, ok := member.Field(f.Name); ok {
				texts = append(texts, types.LiteralTexts(field.Type)...)
			}
		}
		if len(texts) == 0 || slices.Contains(texts, text) {
			continue
		}
		if near, ok := source.Nearest(text, texts); ok {
			return f.Name + ": " + source.DidYouMean(near)
		}
		return fmt.Sprintf("possible values of %s: %s", f.Name, source.Quoted(texts))
	}
	return ""
}
