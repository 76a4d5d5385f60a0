package schema

import (
	"slices"
	"sync/atomic"
)

// A value that passed into the type of a schema is of its shape. What is left to be looked at is what types cannot say;
// most parts of a large schema say nothing of the sort.

// beyond is whether a schema says more than a type can: once that is known.
type beyond = atomic.Int32

const (
	notAsked int32 = iota
	saysMore
	saysNoMore
)

// says reports whether a schema, or any in it, asks for what a type cannot say.
func (s *Schema) says() bool {
	switch s.beyond.Load() {
	case saysMore:
		return true
	case saysNoMore:
		return false
	}
	more := s.findMore(map[*Schema]bool{})
	answer := saysNoMore
	if more {
		answer = saysMore
	}
	s.beyond.Store(answer)
	return more
}

// findMore looks for something that a type cannot say. Seen are the schemas that were looked at on the way: one that
// contains itself says what else is in it.
func (s *Schema) findMore(seen map[*Schema]bool) bool {
	if seen[s] {
		return false
	}
	switch s.beyond.Load() {
	case saysMore:
		return true
	case saysNoMore:
		return false
	}
	seen[s] = true
	r := s.compiled()
	if r.own() || s.isLoose() {
		return true
	}
	for _, inner := range []*Schema{r.ref, r.items, r.additional} {
		if inner != nil && inner.findMore(seen) {
			return true
		}
	}
	for _, name := range r.names {
		if r.properties[name].findMore(seen) {
			return true
		}
	}
	return false
}

// own reports whether a schema itself, whatever is in it, asks for what a type cannot say.
func (r *rules) own() bool {
	for _, l := range []*limit{r.minimum, r.maximum, r.exclusiveMin, r.exclusiveMax, r.multipleOf, r.minLength,
		r.maxLength, r.minContains, r.maxContains, r.minItems, r.maxItems, r.minProperties, r.maxProperties} {
		if l != nil {
			return true
		}
	}
	if e := r.extended; e != nil && (e.embedded || len(e.listKeys) > 0 || e.isSet || len(e.rulesAbout) > 0) {
		return true
	}
	return r.never || r.findings != nil || r.pattern != nil || r.format != nil || len(r.prefix) > 0 || r.contains != nil ||
		r.uniqueItems || len(r.patternProperties) > 0 || r.propertyNames != nil || r.dependentRequired != nil ||
		r.dependentSchemas != nil || r.dynamicRef != nil || r.allOf != nil || r.anyOf != nil || r.oneOf != nil ||
		r.not != nil || r.condition != nil || r.unevaluatedItems != nil || r.unevaluatedProperties != nil
}

// isLoose reports whether the type of a schema says less of a value and its parts than the schema does: where it is
// any, or takes more values.
func (s *Schema) isLoose() bool {
	switch s.loosely.Load() {
	case saysMore:
		return true
	case saysNoMore:
		return false
	}
	answer := saysNoMore
	if s.findLoose() {
		answer = saysMore
	}
	s.loosely.Store(answer)
	return answer == saysMore
}

func (s *Schema) findLoose() bool {
	shape := s.Shape()
	if shape.Forms != nil {
		return true
	}
	for _, v := range shape.Values {
		if _, ok := v.Scalar(); !ok && !v.IsNull() {
			return true
		}
	}
	r := s.compiled()
	if len(r.patternProperties) > 0 || len(r.prefix) > 0 {
		return true
	}
	for _, name := range r.required {
		if !slices.ContainsFunc(shape.Fields, func(f ShapeField) bool { return f.Name == name }) {
			return true
		}
	}
	return shape.Any && (r.properties != nil || r.additional != nil || r.items != nil || r.required != nil) ||
		r.saysTwice() || r.additional != nil && shape.Rest == nil && !shape.Closed
}

// saysTwice reports whether several words of a schema say which values it describes, of which a type says one.
func (r *rules) saysTwice() bool {
	times := 0
	for _, says := range []bool{r.types != 0, r.enum != nil, !r.constant.IsAbsent()} {
		if says {
			times++
		}
	}
	own := times > 0 || r.properties != nil || r.required != nil || r.items != nil || r.additional != nil
	return times > 1 || r.ref != nil && own
}
