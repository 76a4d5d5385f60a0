package explain

import (
	"slices"

	"knothole/core/eval"
	"knothole/core/source"
	"knothole/core/value"
)

// EventKind says what happened to a value.
type EventKind string

// What happens to a value on its way into a document.
const (
	Written     EventKind = "written"     // it was written here: in a template, a layer or a data file
	Placed      EventKind = "placed"      // it was put under a key here
	Passed      EventKind = "passed"      // it was given to a function or a component here
	Patched     EventKind = "patched"     // a patch put it there
	Computed    EventKind = "computed"    // it was computed here from what follows, one step deeper
	Chosen      EventKind = "chosen"      // it was taken because of what follows, one step deeper
	Input       EventKind = "input"       // it is an input, or a part of one
	Environment EventKind = "environment" // it is env.name or env.tags
)

// Event is one thing that happened to a value, or to what it was made of.
type Event struct {
	Kind     EventKind
	Pos      source.Pos
	Input    *eval.InputPart // nil for anything else
	Depth    int             // how far this is from the value itself
	Replaced *value.Value    // what a patch replaced; nil for nothing
	From     source.Pos      // where that came from
}

// storyLimit is how many events a story has at most.
const storyLimit = 200

// Name returns the name of the input, or of the environment; empty for anything else.
func (e Event) Name() string {
	switch {
	case e.Input != nil:
		return e.Input.Name
	case e.Kind == Environment:
		return EnvironmentName
	}
	return ""
}

// Story returns the life of a value, from the document back to where it was written. Each thing is told once.
// InSource says whether a place is in a module.
func Story(r *eval.Recorder, o value.Origin, inSource func(at source.Span) bool) []Event {
	s := &story{recorder: r, inSource: inSource, seen: map[value.Origin]bool{}}
	s.tell(o, 0)
	return s.events
}

type story struct {
	recorder *eval.Recorder
	inSource func(at source.Span) bool
	seen     map[value.Origin]bool
	events   []Event
}

func (s *story) add(e Event) {
	if n := len(s.events); n > 0 && s.events[n-1] == e {
		return
	}
	s.events = append(s.events, e)
}

// holds reports whether what chose a value is the input of which it is a part: that goes without saying.
func (s *story) holds(by value.Origin) bool {
	step, ok := s.recorder.Step(by)
	return ok && step.Input != nil &&
		slices.ContainsFunc(s.events, func(e Event) bool { return e.Input != step.Input && e.Input.In(step.Input) })
}

func (s *story) tell(o value.Origin, depth int) {
	if len(s.events) >= storyLimit || depth > storyLimit || s.seen[o] {
		return
	}
	s.seen[o] = true
	step, ok := s.recorder.Step(o)
	switch {
	case !ok:
		if o.Pos().IsValid() {
			s.add(Event{Kind: Written, Pos: o.Pos(), Depth: depth})
		}
	case step.Input != nil:
		s.add(Event{Kind: Input, Pos: step.Pos, Input: step.Input, Depth: depth})
		for _, operand := range step.Operands { // its default
			s.tell(operand, depth+1)
		}
	case step.Environment:
		s.add(Event{Kind: Environment, Pos: step.Pos, Depth: depth})
	case step.Kind == eval.Placed:
		s.add(Event{Kind: Placed, Pos: step.Pos, Depth: depth})
		s.tell(step.Operands[0], depth)
	case step.Kind == eval.Passed:
		s.add(Event{Kind: Passed, Pos: step.Pos, Depth: depth})
		s.tell(step.Operands[0], depth)
	case step.Kind == eval.Patched:
		e := Event{Kind: Patched, Pos: step.Pos, Depth: depth, Replaced: step.Replaced}
		if e.Replaced != nil {
			e.From = s.recorder.Pos(e.Replaced.Origin())
		}
		s.add(e)
		s.tell(step.Operands[0], depth)
	case step.Kind == eval.Chosen:
		if len(step.Operands) == 1 {
			s.add(Event{Kind: Written, Pos: step.Pos, Depth: depth})
		} else {
			s.tell(step.Operands[0], depth)
		}
		by := step.Operands[len(step.Operands)-1]
		// That data was gone through which something else chose, is told by what chose it.
		for {
			other, ok := s.recorder.Step(by)
			if !ok || other.Kind != eval.Chosen || len(other.Operands) != 1 || s.inSource(source.At(other.Pos)) {
				break
			}
			by = other.Operands[0]
		}
		if !s.seen[by] && !s.holds(by) {
			s.add(Event{Kind: Chosen, Pos: s.recorder.Pos(by), Depth: depth})
			s.tell(by, depth+1)
		}
	default:
		s.add(Event{Kind: Computed, Pos: step.Pos, Depth: depth})
		for _, operand := range step.Operands {
			s.tell(operand, depth+1)
		}
	}
}
