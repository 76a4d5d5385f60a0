package core_test

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// naive evaluates a module by walking its tree, as the manual says it: no types that are inferred, no slots, no
// sharing, no marks. It knows what the generator writes.
type naive struct {
	file         *source.File
	declarations map[string]syntax.Declaration
	values       map[string]any
	steps        int
}

// The values: nil, bool, int64, float64, string, and these.
type (
	naiveList struct {
		elements []any
		set      bool // it passed into a set
	}
	naiveRecord struct {
		keys   []string
		values []any
	}
	naiveFunction func(arguments []any) any
	// naiveAbsent stands for a field that is not there.
	naiveAbsent struct{}
	// naiveFailure ends an evaluation: it is an error that only evaluation finds.
	naiveFailure struct{ message string }
	// naiveTooMuch ends one that takes too long, or needs a type that is inferred.
	naiveTooMuch struct{}
	// naiveUnknown is a form or a function that the naive evaluator should know.
	naiveUnknown string
)

// naiveScope is a chain of local names; `it` is one of them.
type naiveScope struct {
	outer *naiveScope
	name  string
	value any
}

func (s *naiveScope) with(name string, v any) *naiveScope { return &naiveScope{s, name, v} }

func naiveFail(format string, arguments ...any) {
	panic(naiveFailure{fmt.Sprintf(format, arguments...)})
}

func (r *naiveRecord) get(key string) any {
	if i := slices.Index(r.keys, key); i >= 0 {
		return r.values[i]
	}
	return naiveAbsent{}
}

// set returns the record with an entry; a key that is there keeps its place.
func (r *naiveRecord) set(key string, v any) *naiveRecord {
	c := &naiveRecord{slices.Clone(r.keys), slices.Clone(r.values)}
	if i := slices.Index(c.keys, key); i >= 0 {
		c.values[i] = v
	} else {
		c.keys, c.values = append(c.keys, key), append(c.values, v)
	}
	return c
}

func newNaive(m *syntax.Module) *naive {
	n := &naive{file: m.File, declarations: map[string]syntax.Declaration{}, values: map[string]any{}}
	for _, d := range m.Declarations {
		n.declarations[d.Declared().Name.Name] = d
	}
	return n
}

// global returns the value of a declaration.
func (n *naive) global(name string) any {
	if v, ok := n.values[name]; ok {
		return v
	}
	var v any
	switch d := n.declarations[name].(type) {
	case *syntax.Input:
		v = n.pass(n.expression(d.Default, nil), d.Type)
	case *syntax.Let:
		v = n.declared(d.Value, d.Type, nil)
	case *syntax.Output:
		v = n.declared(d.Value, d.Type, nil)
	case *syntax.Function:
		v = n.function(d.Parameters, d.Result, d.Body, nil)
	default:
		panic("there is no " + name)
	}
	n.values[name] = v
	return v
}

func (n *naive) declared(e syntax.Expression, t syntax.Type, s *naiveScope) any {
	v := n.expression(e, s)
	if t != nil {
		v = n.pass(v, t)
	}
	return v
}

func (n *naive) function(parameters []*syntax.Parameter, result syntax.Type, body syntax.Expression,
	s *naiveScope) naiveFunction {
	return func(arguments []any) any {
		inner := s
		for i, p := range parameters {
			v := any(naiveAbsent{})
			if i < len(arguments) {
				v = arguments[i]
			}
			if v == any(naiveAbsent{}) {
				v = n.expression(p.Default, inner)
			}
			if p.Type != nil {
				v = n.pass(v, p.Type)
			}
			inner = inner.with(p.Name.Name, v)
		}
		return n.declared(body, result, inner)
	}
}

// expression returns the value of an expression; an absent field is a failure.
func (n *naive) expression(e syntax.Expression, s *naiveScope) any {
	v := n.lenient(e, s)
	if v == any(naiveAbsent{}) {
		naiveFail("absent")
	}
	return v
}

// lenient is expression where an absent field is allowed.
func (n *naive) lenient(e syntax.Expression, s *naiveScope) any {
	if n.steps++; n.steps > 2_000_000 {
		panic(naiveTooMuch{})
	}
	switch e := e.(type) {
	case *syntax.Null:
		return nil
	case *syntax.Bool:
		return e.Value
	case *syntax.Int:
		return e.Value
	case *syntax.Float:
		return e.Value
	case *syntax.String:
		return n.text(e, s)
	case *syntax.Paren:
		return n.lenient(e.Inner, s)
	case *syntax.Name:
		return n.name(e.Name, s)
	case *syntax.It:
		return n.name("it", s)
	case *syntax.List:
		return &naiveList{elements: n.elements(e.Elements, s)}
	case *syntax.Record:
		return n.record(e.Entries, s)
	case *syntax.Unary:
		if e.Operator == syntax.Not {
			return !n.expression(e.Operand, s).(bool)
		}
		switch x := n.expression(e.Operand, s).(type) {
		case int64:
			return -x
		case float64:
			return -x
		}
		naiveFail("no number")
	case *syntax.Binary:
		return n.binary(e, s)
	case *syntax.If:
		if n.truth(e.Condition, s) {
			return n.expression(e.Then, s)
		}
		if e.Else == nil {
			return naiveAbsent{}
		}
		return n.expression(e.Else, s)
	case *syntax.Match:
		return n.match(e, s)
	case *syntax.LetIn:
		for _, b := range e.Bindings {
			s = s.with(b.Name.Name, n.declared(b.Value, b.Type, s))
		}
		return n.expression(e.Body, s)
	case *syntax.Is:
		_, ok := n.convert(n.expression(e.Operand, s), e.Type, false)
		return ok
	case *syntax.As:
		return n.pass(n.expression(e.Operand, s), e.Type)
	case *syntax.With:
		return n.changes(e, s)
	case *syntax.Lambda:
		return n.function(e.Parameters, e.Result, e.Body, s)
	case *syntax.For:
		return n.loop(e, s)
	case *syntax.Call:
		return n.call(e, s)
	case *syntax.Field, *syntax.Index:
		v, _ := n.step(e, s)
		return v
	}
	panic(naiveUnknown(fmt.Sprintf("%T", e)))
}

func (n *naive) name(name string, s *naiveScope) any {
	for ; s != nil; s = s.outer {
		if s.name == name {
			return s.value
		}
	}
	return n.global(name)
}

// truth is a condition; what is any may be no bool.
func (n *naive) truth(e syntax.Expression, s *naiveScope) bool {
	b, ok := n.expression(e, s).(bool)
	if !ok {
		naiveFail("no bool")
	}
	return b
}

func naiveScalar(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case bool, int64:
		return fmt.Sprint(v)
	case float64:
		return value.FormatFloat(v)
	}
	naiveFail("cannot stand in a text")
	return ""
}

func (n *naive) text(e *syntax.String, s *naiveScope) string {
	var b strings.Builder
	for _, p := range e.Parts {
		if p.Value == nil {
			b.WriteString(p.Text)
			continue
		}
		b.WriteString(naiveScalar(n.expression(p.Value, s)))
	}
	return b.String()
}

func (n *naive) elements(entries []*syntax.Entry, s *naiveScope) []any {
	var all []any
	for _, entry := range entries {
		v := n.entry(entry, s)
		switch {
		case v == any(naiveAbsent{}):
		case entry.Spread:
			list, ok := v.(*naiveList)
			if !ok {
				naiveFail("no list")
			}
			all = append(all, list.elements...)
		default:
			all = append(all, v)
		}
	}
	return all
}

// entry returns the value of an entry, absent when it is left out.
func (n *naive) entry(e *syntax.Entry, s *naiveScope) any {
	v := n.lenient(e.Value, s)
	if e.Optional && v == nil {
		return naiveAbsent{}
	}
	if _, conditional := e.Value.(*syntax.If); v == any(naiveAbsent{}) && !e.Optional && !(e.Spread && conditional) {
		naiveFail("absent")
	}
	return v
}

func (n *naive) key(k *syntax.Key, s *naiveScope) string {
	if k.Value != nil {
		return n.text(k.Value, s)
	}
	return k.Name
}

func (n *naive) record(entries []*syntax.Entry, s *naiveScope) *naiveRecord {
	r, written := &naiveRecord{}, map[string]bool{}
	for _, e := range entries {
		key := ""
		if !e.Spread {
			key = n.key(e.Key, s)
		}
		v := n.entry(e, s)
		if v == any(naiveAbsent{}) {
			continue
		}
		if !e.Spread {
			if written[key] {
				naiveFail("written twice")
			}
			written[key] = true
			r = r.set(key, v)
			continue
		}
		other, ok := v.(*naiveRecord)
		if !ok {
			naiveFail("no record")
		}
		for i, key := range other.keys {
			if written[key] {
				naiveFail("written already")
			}
			r = r.set(key, other.values[i])
		}
	}
	return r
}

func (n *naive) binary(e *syntax.Binary, s *naiveScope) any {
	switch e.Operator {
	case syntax.And:
		return n.truth(e.Left, s) && n.truth(e.Right, s)
	case syntax.Or:
		return n.truth(e.Left, s) || n.truth(e.Right, s)
	case syntax.Default:
		if v := n.lenient(e.Left, s); v != nil && v != any(naiveAbsent{}) {
			return v
		}
		return n.expression(e.Right, s)
	}
	a, b := n.expression(e.Left, s), n.expression(e.Right, s)
	switch e.Operator {
	case syntax.Range:
		all := &naiveList{}
		for i := a.(int64); i <= b.(int64); i++ {
			all.elements = append(all.elements, i)
		}
		return all
	case syntax.Equal:
		return naiveEqual(a, b)
	case syntax.NotEqual:
		return !naiveEqual(a, b)
	case syntax.In:
		switch in := b.(type) {
		case *naiveList:
			return slices.ContainsFunc(in.elements, func(x any) bool { return naiveEqual(a, x) })
		case *naiveRecord:
			key, ok := a.(string)
			if !ok {
				naiveFail("no key")
			}
			return in.get(key) != any(naiveAbsent{})
		}
		naiveFail("nothing to look into")
	case syntax.Less, syntax.GreaterEqual:
		return naiveLess(a, b) == (e.Operator == syntax.Less)
	case syntax.Add:
		x, isText := a.(string)
		y, both := b.(string)
		if isText && both {
			return x + y
		}
		xs, isList := a.(*naiveList)
		ys, both := b.(*naiveList)
		if isList && both {
			return &naiveList{elements: append(slices.Clone(xs.elements), ys.elements...)}
		}
	}
	return naiveCalculate(e.Operator, a, b)
}

func naiveNumber(v any) float64 {
	switch v := v.(type) {
	case int64:
		return float64(v)
	case float64:
		return v
	}
	naiveFail("no number")
	return 0
}

func naiveLess(a, b any) bool {
	x, isText := a.(string)
	y, both := b.(string)
	if isText && both {
		return x < y
	}
	return naiveNumber(a) < naiveNumber(b)
}

func naiveCalculate(operator syntax.Operator, a, b any) any {
	x, isInt := a.(int64)
	y, both := b.(int64)
	if isInt && both {
		switch operator {
		case syntax.Add:
			return x + y
		case syntax.Subtract:
			return x - y
		}
		return x * y
	}
	f, g := naiveNumber(a), naiveNumber(b)
	switch operator {
	case syntax.Add:
		return f + g
	case syntax.Subtract:
		return f - g
	}
	return f * g
}

// naiveEqual compares values; a set without order, also with a list.
func naiveEqual(a, b any) bool {
	switch x := a.(type) {
	case *naiveList:
		y, ok := b.(*naiveList)
		if !ok || len(x.elements) != len(y.elements) {
			return false
		}
		if !x.set && !y.set {
			return slices.EqualFunc(x.elements, y.elements, naiveEqual)
		}
		left := slices.Clone(y.elements)
		for _, e := range x.elements {
			i := slices.IndexFunc(left, func(o any) bool { return naiveEqual(e, o) })
			if i < 0 {
				return false
			}
			left = slices.Delete(left, i, i+1)
		}
		return true
	case *naiveRecord:
		y, ok := b.(*naiveRecord)
		if !ok || len(x.keys) != len(y.keys) {
			return false
		}
		for i, key := range x.keys {
			if o := y.get(key); o == any(naiveAbsent{}) || !naiveEqual(x.values[i], o) {
				return false
			}
		}
		return true
	case int64, float64:
		switch b.(type) {
		case int64, float64:
			return naiveNumber(a) == naiveNumber(b)
		}
		return false
	case naiveFunction:
		return false
	}
	if _, ok := b.(naiveFunction); ok {
		return false
	}
	return a == b
}

func (n *naive) match(e *syntax.Match, s *naiveScope) any {
	v := n.expression(e.Subject, s)
	inner := s.with("it", v)
	for _, arm := range e.Arms {
		hit := arm.Else
		for _, p := range arm.Patterns {
			if is, ok := p.(*syntax.Is); ok {
				_, fits := n.convert(v, is.Type, false)
				hit = hit || fits
				continue
			}
			hit = hit || naiveEqual(v, n.expression(p, nil))
		}
		if hit {
			return n.expression(arm.Value, inner)
		}
	}
	naiveFail("no arm")
	return nil
}

func (n *naive) loop(e *syntax.For, s *naiveScope) any {
	var keys, elements []any
	switch in := n.expression(e.In, s).(type) {
	case *naiveList:
		elements = in.elements
		for i := range elements {
			keys = append(keys, int64(i))
		}
	case *naiveRecord:
		elements = in.values
		for _, key := range in.keys {
			keys = append(keys, key)
		}
	default:
		naiveFail("nothing to go through")
	}
	var entries []any
	record, written := &naiveRecord{}, map[string]bool{}
	for i, x := range elements {
		inner := s.with(e.First.Name, x)
		if e.Second.Name != "" {
			inner = s.with(e.First.Name, keys[i]).with(e.Second.Name, x)
		}
		if e.Where != nil && !n.truth(e.Where, inner) {
			continue
		}
		if e.Body.Key == nil {
			entries = append(entries, n.elements([]*syntax.Entry{e.Body}, inner)...)
			continue
		}
		key, v := n.key(e.Body.Key, inner), n.entry(e.Body, inner)
		if v == any(naiveAbsent{}) {
			continue
		}
		if written[key] {
			naiveFail("written twice")
		}
		written[key] = true
		record = record.set(key, v)
	}
	if e.Body.Key != nil {
		return record
	}
	return &naiveList{elements: entries}
}

// step is a field or an index; ended says that `?.` or `?[` met nothing.
func (n *naive) step(e syntax.Expression, s *naiveScope) (v any, ended bool) {
	var of syntax.Expression
	optional := false
	switch e := e.(type) {
	case *syntax.Field:
		of, optional = e.Of, e.Optional
	case *syntax.Index:
		of, optional = e.Of, e.Optional
	default:
		return n.lenient(e, s), false
	}
	holder, ended := n.step(of, s)
	if ended {
		return nil, true
	}
	if holder == nil || holder == any(naiveAbsent{}) {
		if optional {
			return nil, true
		}
		naiveFail("null has no parts")
	}
	found := any(naiveAbsent{})
	switch e := e.(type) {
	case *syntax.Field:
		r, ok := holder.(*naiveRecord)
		if !ok {
			naiveFail("no record")
		}
		found = r.get(e.Name.Name)
	case *syntax.Index:
		found = naiveElement(holder, n.expression(e.Index, s))
	}
	if found == any(naiveAbsent{}) && optional {
		return nil, true
	}
	return found, false
}

func naiveElement(holder, index any) any {
	switch h := holder.(type) {
	case *naiveRecord:
		key, ok := index.(string)
		if !ok {
			naiveFail("no key")
		}
		return h.get(key)
	case *naiveList:
		i, ok := index.(int64)
		if !ok {
			naiveFail("no position")
		}
		if i < 0 {
			i += int64(len(h.elements))
		}
		if i >= 0 && i < int64(len(h.elements)) {
			return h.elements[i]
		}
		return naiveAbsent{}
	}
	naiveFail("no elements")
	return nil
}

// merge lays a record over another.
func naiveMerge(under, over *naiveRecord) *naiveRecord {
	for i, key := range over.keys {
		v := over.values[i]
		old, both := under.get(key).(*naiveRecord)
		if inner, ok := v.(*naiveRecord); ok && both {
			v = naiveMerge(old, inner)
		}
		under = under.set(key, v)
	}
	return under
}

func (n *naive) changes(e *syntax.With, s *naiveScope) any {
	asRecord := func(v any) *naiveRecord {
		r, ok := v.(*naiveRecord)
		if !ok {
			naiveFail("no record")
		}
		return r
	}
	v := n.expression(e.Of, s)
	if e.Over != nil {
		over := n.expression(e.Over, s)
		return naiveMerge(asRecord(v), asRecord(over))
	}
	var change func(r *naiveRecord, path []string, to any) *naiveRecord
	change = func(r *naiveRecord, path []string, to any) *naiveRecord {
		old := r.get(path[0])
		if len(path) > 1 {
			if old == any(naiveAbsent{}) {
				naiveFail("the way is not there")
			}
			return r.set(path[0], change(asRecord(old), path[1:], to))
		}
		return naiveMerge(r, &naiveRecord{[]string{path[0]}, []any{to}})
	}
	for _, c := range e.Changes {
		to := n.entry(&syntax.Entry{Value: c.Value, Optional: c.Optional}, s)
		var path []string
		for _, key := range c.Path {
			path = append(path, n.key(key, s))
		}
		if to == any(naiveAbsent{}) {
			continue
		}
		v = change(asRecord(v), path, to)
	}
	return v
}

func (n *naive) call(e *syntax.Call, s *naiveScope) any {
	arguments := make([]any, len(e.Arguments))
	for i, a := range e.Arguments {
		arguments[i] = n.expression(a.Value, s)
	}
	if field, ok := e.Function.(*syntax.Field); ok {
		if group, ok := field.Of.(*syntax.Name); ok && slices.Contains([]string{"list", "record", "text"}, group.Name) {
			return naiveBuiltin(group.Name+"."+field.Name.Name, arguments)
		}
	}
	f, ok := n.expression(e.Function, s).(naiveFunction)
	if !ok {
		naiveFail("no function")
	}
	return f(arguments)
}

func naiveBuiltin(name string, a []any) any {
	list := func(v any) []any {
		l, ok := v.(*naiveList)
		if !ok {
			naiveFail("no list")
		}
		return l.elements
	}
	record := func(v any) *naiveRecord {
		r, ok := v.(*naiveRecord)
		if !ok {
			naiveFail("no record")
		}
		return r
	}
	apply := func(f any, arguments ...any) any { return f.(naiveFunction)(arguments) }
	holds := func(f any, x any) bool {
		b, ok := apply(f, x).(bool)
		if !ok {
			naiveFail("no bool")
		}
		return b
	}
	result := &naiveList{}
	switch name {
	case "list.map":
		for _, x := range list(a[0]) {
			result.elements = append(result.elements, apply(a[1], x))
		}
	case "list.filter":
		for _, x := range list(a[0]) {
			if holds(a[1], x) {
				result.elements = append(result.elements, x)
			}
		}
	case "list.find":
		for _, x := range list(a[0]) {
			if holds(a[1], x) {
				return x
			}
		}
		return nil
	case "list.first":
		if xs := list(a[0]); len(xs) > 0 {
			return xs[0]
		}
		return nil
	case "list.fold":
		so := a[1]
		for _, x := range list(a[0]) {
			next := apply(a[2], so, x)
			if i, isInt := next.(int64); isInt && fmt.Sprintf("%T", so) == "float64" {
				next = float64(i)
			}
			if fmt.Sprintf("%T", so) != fmt.Sprintf("%T", next) {
				panic(naiveTooMuch{}) // what starts a fold decides what each round returns, and its type is not known here
			}
			so = next
		}
		return so
	case "list.reverse":
		result.elements = slices.Clone(list(a[0]))
		slices.Reverse(result.elements)
	case "list.flatten":
		for _, xs := range list(a[0]) {
			result.elements = append(result.elements, list(xs)...)
		}
	case "list.length":
		return int64(len(list(a[0])))
	case "record.values":
		result.elements = slices.Clone(record(a[0]).values)
	case "record.get":
		if v := record(a[0]).get(a[1].(string)); v != any(naiveAbsent{}) {
			return v
		}
		return nil
	case "record.map_values":
		r := record(a[0])
		c := &naiveRecord{keys: r.keys}
		for _, x := range r.values {
			c.values = append(c.values, apply(a[1], x))
		}
		return c
	case "text.upper":
		s, ok := a[0].(string)
		if !ok {
			naiveFail("no text")
		}
		return strings.ToUpper(s)
	default:
		panic(naiveUnknown(name))
	}
	return result
}

// naiveData returns a value as the core has it.
func naiveData(v any) value.Value {
	switch v := v.(type) {
	case bool:
		return value.BoolOf(v, 0)
	case int64:
		return value.IntOf(v, 0)
	case float64:
		return value.FloatOf(v, 0)
	case string:
		return value.StringOf(v, 0)
	case *naiveList:
		var elements []value.Value
		for _, x := range v.elements {
			elements = append(elements, naiveData(x))
		}
		return value.ListOf(elements, 0)
	case *naiveRecord:
		var b value.Builder
		for i, key := range v.keys {
			b.Set(key, naiveData(v.values[i]))
		}
		return b.Record(0)
	}
	return value.NullOf(0)
}

// output evaluates an output naively; failed says that it cannot be evaluated, known that the answer is of use.
func (n *naive) output(name string) (text string, failed, known bool) {
	defer func() {
		switch problem := recover().(type) {
		case nil:
		case naiveFailure:
			text, failed, known = problem.message, true, true
		case naiveUnknown:
			panic("the naive evaluator does not know " + problem)
		default:
			known = false // it takes too long, or needs what the naive evaluator does not know
		}
	}()
	return data.CompactJSON(naiveData(n.global(name))), false, true
}

var seedLine = regexp.MustCompile(`(?m)^output (o\d+)`)

// oneMeaning holds for one random program that outputs, recorded evaluation and the naive evaluator agree.
func oneMeaning(t *testing.T, seed uint64) (compared int) {
	t.Helper()
	g := newGenerator(seed)
	g.plain = true
	program := g.program()
	files := fstest.MapFS{project.FileName: {Data: []byte("[environments.bench]\n")},
		"main.knot": {Data: []byte(program)}}
	p, err := project.Load(files)
	require.NoError(t, err)
	results, _, _ := render.All(p, p.Runs(p.Concrete()), render.Options{Everything: true, Outputs: true})
	recorded, _, _ := render.All(p, p.Runs(p.Concrete()),
		render.Options{Everything: true, Outputs: true, Recording: true})
	found, again := outputTexts(results[0]), outputTexts(recorded[0])
	require.Equal(t, found, again, "recorded, seed %d:\n%s", seed, program)
	file, err := source.NewSet().Add("main.knot", []byte(program))
	require.NoError(t, err)
	n := newNaive(syntax.Parse(file))
	for _, match := range seedLine.FindAllStringSubmatch(program, -1) {
		name := match[1]
		if broken(p, name) {
			continue // the checker refuses it
		}
		n.steps = 0
		text, failed, known := n.output(name)
		if !known {
			continue
		}
		compared++
		got, ok := found[name]
		require.Equal(t, !failed, ok, "seed %d: naively, %s fails: %v %s\n%s", seed, name, failed, text, program)
		if ok {
			require.Equal(t, text, got, "seed %d: %s\n%s", seed, name, program)
		}
	}
	return compared
}

// broken reports whether an output, or what it uses, has an error that the checker finds.
func broken(p *project.Project, name string) bool {
	seen := map[*check.Object]bool{}
	var is func(o *check.Object) bool
	is = func(o *check.Object) bool {
		if o == nil || seen[o] {
			return false
		}
		seen[o] = true
		return o.Invalid || slices.ContainsFunc(o.Uses, func(r check.Reference) bool { return is(r.Object) })
	}
	return is(p.Unit().Module.Objects[name])
}

func outputTexts(r *render.Result) map[string]string {
	texts := map[string]string{}
	for _, out := range r.Outputs {
		texts[out.Object.Name] = data.CompactJSON(out.Value)
	}
	return texts
}

// FuzzOneMeaning: whatever the program, both evaluators agree.
func FuzzOneMeaning(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { oneMeaning(t, seed) })
}

// TestOneMeaningOfRandomPrograms is a part of what FuzzOneMeaning tries.
func TestOneMeaningOfRandomPrograms(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	compared := 0
	for seed := range uint64(350) {
		compared += oneMeaning(t, seed)
	}
	require.Greater(t, compared, 2000, "most outputs are compared")
}
