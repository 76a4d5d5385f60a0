package schema

import (
	"net/url"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/value"
)

// Mistakes returns what is wrong with a schema and all in it: what its metaschema does not allow, references that lead
// nowhere or in a cycle, patterns that cannot be used. So are schemas looked at to which it refers, but that those in
// other documents are what their metaschema asks for is not.
func (s *Schema) Mistakes() source.Findings {
	s.looked.Do(func() { s.mistakes = s.findMistakes() })
	return slices.Clone(s.mistakes)
}

func (s *Schema) findMistakes() source.Findings {
	var findings source.Findings
	if meta := s.store.metaschemaOf(s.resource); meta != nil {
		for _, p := range meta.Validate(s.raw, s.resource.numbers).Problems {
			findings.Add(p.inSchema())
		}
	}
	if findings.HasErrors() {
		return findings // what is not a schema cannot be compiled
	}
	seen := map[*Schema]bool{}
	var look func(s *Schema)
	look = func(s *Schema) {
		if seen[s] {
			return
		}
		seen[s] = true
		findings = append(findings, s.compiled().findings...)
		for _, inner := range s.inner() {
			look(inner)
		}
		if target := s.compiled().ref; target != nil {
			look(target)
		}
	}
	look(s)
	findings = append(findings, s.circles()...)
	if s.saysNothing() {
		findings.Add(source.Finding{Code: source.BadSchema, Severity: source.Warning, Span: source.At(s.raw.Origin().Pos()),
			Message: "this schema has none of the words of JSON Schema: it allows anything", Help: "is it data?"})
	}
	return findings
}

// cycles returns the references that lead back to themselves without going into the value, in a schema and all in it.
func (s *Schema) circles() source.Findings {
	var findings source.Findings
	done := map[*Schema]bool{} // false while it is gone through
	var last []*Schema         // the references gone through
	var within func(s *Schema)
	within = func(s *Schema) {
		if finished, ok := done[s]; ok {
			if !finished && len(last) > 0 && !done[last[len(last)-1]] {
				findings.Add(last[len(last)-1].circle())
			}
			return
		}
		done[s] = false
		r := s.compiled()
		if r.ref != nil {
			last = append(last, s)
			within(r.ref)
			last = last[:len(last)-1]
		}
		for _, beside := range r.beside() {
			within(beside)
		}
		done[s] = true
	}
	var into func(s *Schema)
	seen := map[*Schema]bool{}
	into = func(s *Schema) {
		if seen[s] {
			return
		}
		seen[s] = true
		within(s)
		for _, inner := range s.inner() {
			into(inner)
		}
	}
	into(s)
	return findings
}

// circle is the finding for a reference that leads back to itself without going into the value.
func (s *Schema) circle() source.Finding {
	return source.Finding{Code: source.BadSchema, Span: source.At(s.raw.Origin().Pos()),
		Message: "this reference leads back to itself without going into the value",
		Help:    "put it under properties, items or another part that goes into the value"}
}

// beside returns the schemas in a schema that look at the same value.
func (r *rules) beside() []*Schema {
	all := slices.Concat(r.allOf, r.anyOf, r.oneOf)
	for _, s := range []*Schema{r.not, r.condition, r.then, r.otherwise} {
		if s != nil {
			all = append(all, s)
		}
	}
	for _, d := range r.dependentSchemas {
		all = append(all, d.schema)
	}
	return all
}

// words are those of JSON Schema beside the applicators and what begins with $.
var words = []string{"type", "enum", "const", "multipleOf", "maximum", "exclusiveMaximum", "minimum",
	"exclusiveMinimum", "maxLength", "minLength", "pattern", "maxItems", "minItems", "uniqueItems", "maxContains",
	"minContains",
	"maxProperties", "minProperties", "required", "dependentRequired", "format", "title", "description", "default"}

// saysNothing reports whether a schema has fields, and none of them is a word of JSON Schema.
func (s *Schema) saysNothing() bool {
	if s.raw.Kind() != value.Record || s.raw.Len() == 0 {
		return false
	}
	return !slices.ContainsFunc(s.raw.Shape().Keys(), func(key string) bool {
		_, applies := applicators[key]
		return applies || strings.HasPrefix(key, "$") || strings.HasPrefix(key, "x-") || slices.Contains(words, key)
	})
}

// inSchema is a problem that a metaschema has with a schema.
func (p Problem) inSchema() source.Finding {
	message := p.Message
	if text := p.Path.String(); text != "" {
		message = text + ": " + message
	}
	return source.Finding{Code: source.BadSchema, Span: source.At(p.Value.Origin().Pos()), Message: message, Help: p.Help}
}

// metaschemaOf returns the schema of the schemas of a dialect.
func (s *Store) metaschemaOf(r *resource) *Schema {
	address := DefaultDialect
	if r.dialect.openAPI {
		address = openAPIMetaschema
	} else if r.root.Kind() == value.Record {
		if named := r.root.Get("$schema"); named.Kind() == value.String && !r.unknownDialect {
			address = named.Text()
		}
	}
	uri, err := url.Parse(address)
	if err != nil {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	meta := s.load(uri, nil)
	if meta == nil {
		return nil
	}
	return s.schema(meta.root, meta)
}

// inner returns the schemas that are in a schema.
func (s *Schema) inner() []*Schema {
	var all []*Schema
	if s.raw.Kind() != value.Record {
		return nil
	}
	dialect := s.resource.dialect
	for i, key := range s.raw.Shape().Keys() {
		a, ok := applicators[key]
		if !ok || dialect.version < a.from || dialect.version > a.to {
			continue
		}
		v := s.raw.Values()[i]
		if a.holds == oneSchema || a.holds == oneOrList && v.Kind() != value.List {
			all = append(all, s.store.part(v, s.resource))
			continue
		}
		for _, part := range value.Parts(v) {
			if a.holds != mixedMap || part.Kind() != value.List {
				all = append(all, s.store.part(part, s.resource))
			}
		}
	}
	return all
}
