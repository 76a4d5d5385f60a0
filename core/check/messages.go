package check

import (
	"fmt"
	"strings"

	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

// The findings below are made twice: here from types, and where types are not known by evaluation from values. What was
// found is described by types.Describe there and as a value here.

// NotIterable is the finding of a loop over something else than elements.
func NotIterable(at source.Span, found string) source.Finding {
	return wrongType(at, "", "for goes through a list, a record or a range, not "+found)
}

// NoFields is the finding of a field of something that has none.
func NoFields(at source.Span, found, field string) source.Finding {
	return wrongType(at, "", fmt.Sprintf("%s has no fields, so there is no %q", found, field))
}

// NoElements is the finding of an index into something that has no elements.
func NoElements(at source.Span, found string) source.Finding {
	return wrongType(at, "", found+" has no elements")
}

// NotInserted is the finding of a value in a string that cannot be part of one.
func NotInserted(at source.Span, found string) source.Finding {
	return wrongType(at, "", "only strings, numbers and bools can be inserted into a string, not "+found)
}

// NotLines is the finding of a value on a line of its own that is not lines.
func NotLines(at source.Span, found string) source.Finding {
	return wrongType(at, "encode it, for example with encode.json",
		"a line of its own takes a string, a list of strings (a line each), or null (no line); not "+found)
}

// NotChanged is the finding of `with` on, or with, something that is not a record.
func NotChanged(at source.Span, found string) source.Finding {
	return wrongType(at, "", "with changes records, not "+found)
}

// NotPatched is the finding of a patch of something that has no places.
func NotPatched(at source.Span, found string) source.Finding {
	return wrongType(at, "", "a patch changes records and lists, not "+found)
}

// NotEach is the finding of `each` in a patch of something that is not a list.
func NotEach(at source.Span, patched string) source.Finding {
	return wrongType(at, "leave each out: outside of it a path begins at what is patched",
		"each goes through the elements of a list, and what is patched is "+patched)
}

// NotMerged is the finding of a merge of something that is not a record.
func NotMerged(at source.Span, found string) source.Finding {
	return wrongType(at, "replace puts any value", "merge lays a record over another, not "+found)
}

// NotAnIndex is the finding of an index in a path that is of another type.
func NotAnIndex(at source.Span, found string) source.Finding {
	return wrongType(at, "an element is named by its position or by a condition on it",
		"the index of a list is an int, not "+found)
}

func wrongType(at source.Span, help, message string) source.Finding {
	return source.Finding{Code: source.WrongType, Span: at, Help: help, Message: message}
}

// BadPattern is the finding of a pattern that is not RE2; err is what the compiler of patterns says.
func BadPattern(at source.Span, err error) source.Finding {
	return source.Finding{Code: source.BadPattern, Span: at, Message: "this is not a pattern: " + PatternMistake(err),
		Help: "patterns are RE2; '…' keeps backslashes as they are"}
}

// SpreadOver is the finding of a spread that adds a key which is written before it.
func SpreadOver(at source.Span, key string) source.Finding {
	return source.Finding{Code: source.DuplicateKey, Span: at,
		Message: fmt.Sprintf("this adds the key %q, which is already written", key),
		Help:    "put the spread before the key, so that the key wins, or leave one out"}
}

// DeprecatedField is the warning of a field that is going to be removed.
func DeprecatedField(at source.Span, f *types.Field) source.Finding {
	return source.Finding{Code: source.Deprecated, Severity: source.Warning, Span: at,
		Message: fmt.Sprintf("%q is deprecated", f.Name), Help: f.Deprecated}
}

// Circle is the finding of a declaration that needs itself; names are those of the way round, ending as it begins.
func Circle(at source.Span, first string, names []string) source.Finding {
	return source.Finding{Code: source.Cycle, Span: at, Help: "one of them must not need the other",
		Message: fmt.Sprintf("%s depends on itself: %s", first, strings.Join(names, " → "))}
}

// Decides is the finding of something that depends on a value which may decide nothing: a secret, or one that is known
// only later. What is named with its article, such as "this condition".
func Decides(at source.Span, what string, mark value.Mark) source.Finding {
	f := source.Finding{Code: source.HiddenDecision, Span: at, Message: what + " depends on a value that is secret",
		Help: "decide by something that is not secret; require, where and expect may test it"}
	if mark&value.Secret == 0 {
		f.Message = what + " depends on a value that is known only after deployment"
		f.Help = "decide by another input; a value that is known only later may be part of strings and records"
	}
	return f
}

// An Audience is what is not secret, so that no secret may get into it.
type Audience struct {
	Name string // with its article, as "the output \"x\""
	Help string
}

// ARemark is the audience of a remark.
var ARemark = Audience{"a remark", "remarks are shown to people: leave it out"}

// OfOutput is the audience of an output that is not declared secret.
func OfOutput(o *Object) Audience {
	return Audience{fmt.Sprintf("the output %q", o.Name), "write secret before output, or leave it out"}
}

// OfInput is the audience of an input of a component that is not declared secret.
func OfInput(o *Object) Audience {
	return Audience{fmt.Sprintf("the input %q of %s, which is not secret", o.Name, o.Module.Path),
		"declare it there: secret input " + o.Name}
}

// Exposed is the finding of a secret that gets to an audience; at is the place of the secret in the value, or "".
func (a Audience) Exposed(span source.Span, at string) source.Finding {
	if at != "" {
		at = " (at " + at + ")"
	}
	return source.Finding{Code: source.SecretExposed, Span: span, Help: a.Help,
		Message: "a secret gets into " + a.Name + at}
}

// ExposedInDocument is the finding of a document that is not declared secret and holds a secret, at a place or "".
func ExposedInDocument(span source.Span, name, at string) source.Finding {
	if at != "" {
		at = " at " + at
	}
	return source.Finding{Code: source.SecretExposed, Span: span,
		Message: name + " is not secret, but holds a secret" + at,
		Help:    "write secret before the document, or leave the secret out"}
}
