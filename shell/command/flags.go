package command

import (
	"errors"
	"flag"
	"slices"
	"strings"
	"time"

	"knothole/core/place"
	"knothole/core/source"
)

// patterns are those of a flag that may be repeated.
type patterns []string

func (p *patterns) String() string { return strings.Join(*p, ", ") }

// Set adds a pattern.
func (p *patterns) Set(pattern string) error {
	*p = append(*p, pattern)
	return nil
}

// filter returns what selects the paths that one of the patterns matches; nil when there are none.
func (p patterns) filter() func(name string) bool {
	if len(p) == 0 {
		return nil
	}
	return func(name string) bool {
		return slices.ContainsFunc(p, func(pattern string) bool { return place.Match(pattern, name) })
	}
}

// defineOnly adds the flag that selects documents.
func (p *patterns) defineOnly(flags *flag.FlagSet) {
	flags.Var(p, "only", "only documents whose path matches the pattern `GLOB`; repeatable")
}

// today is the day on which exemptions are judged: that of the machine, unless it is given.
type today struct{ day time.Time }

func (t *today) String() string {
	if t == nil || t.day.IsZero() {
		return ""
	}
	return t.day.Format(time.DateOnly)
}

// Set takes a day.
func (t *today) Set(text string) error {
	day, err := time.ParseInLocation(time.DateOnly, text, time.Local)
	if err != nil {
		return errors.New("write a day of the calendar, such as 2027-03-31")
	}
	t.day = day
	return nil
}

// Get returns the day, so that the flag is one that has one value.
func (t *today) Get() any { return t.day }

// define adds the flag.
func (t *today) define(flags *flag.FlagSet) {
	flags.Var(t, "today", "judge exemptions as on the day `DATE`, such as 2027-03-31 (default: today)")
}

// time returns the day that is meant.
func (t *today) time() time.Time {
	if t.day.IsZero() {
		return time.Now()
	}
	return t.day
}

// once is a flag that has one value: given twice, one of the two would be ignored.
type once struct {
	flag.Value
	given bool
}

// Set refuses to be called twice.
func (o *once) Set(text string) error {
	if o.given {
		return errors.New("it is given twice, and can be given once")
	}
	o.given = true
	return o.Value.Set(text)
}

// IsBoolFlag reports whether the flag needs no value.
func (o *once) IsBoolFlag() bool {
	b, ok := o.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}

// onlyOnce refuses that flags with one value are given twice. Those of the standard types have one.
func onlyOnce(flags *flag.FlagSet) {
	flags.VisitAll(func(f *flag.Flag) {
		if _, ok := f.Value.(flag.Getter); ok {
			f.Value = &once{Value: f.Value}
		}
	})
}

// choice is a flag whose value is one of some words. What they are is written here once: the usage line, the help, the
// completion and the check of the value come from it.
type choice struct {
	value *string
	words []string
}

func (c *choice) String() string {
	if c == nil || c.value == nil {
		return ""
	}
	return *c.value
}

// Get returns the value, so that the flag is one that has one value.
func (c *choice) Get() any { return *c.value }

// Set takes a word.
func (c *choice) Set(word string) error {
	if !slices.Contains(c.words, word) {
		return errors.New("it is " + source.Either(c.words))
	}
	*c.value = word
	return nil
}

// choose adds a flag whose value is one of some words, the first if it is not given. The text of its help names what
// the value is, in back quotes; the words are added to it.
func choose(flags *flag.FlagSet, value *string, name, text string, words ...string) {
	*value = words[0]
	flags.Var(&choice{value, words}, name, text+": "+source.Either(words))
}

// chooseFormat adds the flag for the format of the answer.
func chooseFormat(flags *flag.FlagSet, value *string, words ...string) {
	choose(flags, value, "format", "output `FORMAT`", words...)
}

// choicesOf returns the words that a flag takes; nil for one that takes others too.
func choicesOf(f *flag.Flag) []string {
	v := f.Value
	if o, is := v.(*once); is {
		v = o.Value
	}
	if c, is := v.(*choice); is {
		return c.words
	}
	return nil
}

// withChoices writes the words that flags take into a usage line: [--format] becomes [--format].
func withChoices(arguments string, flags *flag.FlagSet) string {
	flags.VisitAll(func(f *flag.Flag) {
		if words := choicesOf(f); words != nil {
			arguments = strings.ReplaceAll(arguments, "[--"+f.Name+"]", "[--"+f.Name+" "+strings.Join(words, "|")+"]")
		}
	})
	return arguments
}
