package command

import (
	"errors"
	"flag"
	"slices"
	"strings"
	"time"

	"knothole/core/place"
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
