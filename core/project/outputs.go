package project

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

// An environment can pass its outputs to other environments: they are a layer of those, as one input's value.
// Only the outputs that the type of that input names are evaluated, when they are first asked for. Which environments
// read which is known from the project file alone, so that a cycle is found before anything is evaluated.

// Chosen are the environments whose outputs are a layer.
type Chosen struct {
	// One says that the value is what the outputs of one environment are; else it is a map by their names.
	One      bool
	names    []value.Value // patterns when they hold a star
	tag      value.Value   // Absent unless all environments of a tag are chosen
	project  *Project
	span     source.Span // of the entry
	circular bool
}

// everyEnvironment is the pattern that all names match.
const everyEnvironment = "*"

// String returns the choice as it is written in an entry of layers.
func (c *Chosen) String() string {
	var names []string
	for _, name := range c.names {
		names = append(names, fmt.Sprintf("%q", name.Text()))
	}
	switch {
	case c.One:
		return "environment = " + names[0]
	case c.tag.IsAbsent():
		return "environments = [" + strings.Join(names, ", ") + "]"
	}
	return fmt.Sprintf("tagged = %q", c.tag.Text())
}

// label is what messages and tables call the layer.
func (c *Chosen) label() string {
	var names []string
	for _, name := range c.names {
		names = append(names, name.Text())
	}
	if !c.tag.IsAbsent() {
		names = append(names, "tagged "+c.tag.Text())
	}
	return "outputs of " + strings.Join(names, ", ")
}

// collects reports whether the environments are chosen by a pattern or a tag.
func (c *Chosen) collects() bool {
	return !c.tag.IsAbsent() ||
		slices.ContainsFunc(c.names, func(v value.Value) bool { return strings.Contains(v.Text(), "*") })
}

// readOutputsLayer reads an entry of layers that names environments.
func (c *configuration) readOutputsLayer(table value.Value, span source.Span) *Layer {
	c.known("environment", "environments", "tagged", "into")
	into, ok := c.get("into", value.String)
	chosen := &Chosen{project: c.Project, span: span}
	ways := 0
	if v := table.Get("environment"); !v.IsAbsent() {
		ways++
		if v, is := c.get("environment", value.String); is {
			chosen.One, chosen.names = true, []value.Value{v}
		}
	}
	if v := table.Get("environments"); !v.IsAbsent() {
		ways++
		if v.Kind() == value.String {
			chosen.names = append(chosen.names, v)
		} else {
			chosen.names = c.texts("environments", "names of environments")
		}
	}
	if v := table.Get("tagged"); !v.IsAbsent() {
		ways++
		if v, is := c.get("tagged", value.String); is {
			chosen.tag = v
		}
	}
	switch {
	case ways > 1:
		c.report(source.WrongUse, span, "leave all but one out",
			"a layer of outputs chooses by one of environment, environments and tagged")
		return nil
	case into.IsAbsent():
		c.report(source.MissingField, span, "write: { "+chosen.String()+`, into = "INPUT" }`,
			"a layer of outputs names the input whose value they are")
		return nil
	case !ok || len(chosen.names) == 0 && chosen.tag.IsAbsent():
		return nil // which is reported
	}
	return &Layer{Path: chosen.label(), Into: into.Text(), Outputs: chosen, intoSpan: source.At(into.Origin().Pos())}
}

// readOutputs reports layers of outputs that choose no environment, and environments that read each other in a cycle.
func (p *Project) readOutputs() {
	for _, e := range p.Environments {
		for _, l := range e.Layers {
			if l.Outputs != nil {
				p.checkChosen(e, l.Outputs)
			}
		}
	}
	const waiting, running, done = 0, 1, 2
	state := map[*Environment]int{}
	var trail []string
	var visit func(e *Environment)
	visit = func(e *Environment) {
		state[e] = running
		trail = append(trail, e.Name)
		for _, l := range e.written() {
			if l.Outputs == nil {
				continue
			}
			for _, other := range l.Outputs.of(e) {
				switch state[other] {
				case waiting:
					visit(other)
				case running:
					l.Outputs.circular = true
					circle := append(slices.Clone(trail[slices.Index(trail, other.Name):]), other.Name)
					p.report(source.Cycle, l.Outputs.span, "move what both need into a layer, or into a third "+
						"environment",
						"environments read the outputs of each other in a cycle: %s", strings.Join(circle, " → "))
				}
			}
		}
		trail = trail[:len(trail)-1]
		state[e] = done
	}
	for _, e := range p.Concrete() {
		if state[e] == waiting {
			visit(e)
		}
	}
}

// checkChosen reports names of environments that there are not.
func (p *Project) checkChosen(e *Environment, c *Chosen) {
	var names, tags []string
	for _, other := range p.Concrete() {
		if other != e {
			names = append(names, other.Name)
		}
		tags = append(tags, other.Tags...)
	}
	help := func(name string) string {
		return source.Suggest(name, names, "others are "+source.FirstQuoted(names, 8))
	}
	for _, v := range c.names {
		name, span := v.Text(), source.At(v.Origin().Pos())
		other := p.Environment(name)
		switch {
		case c.One && strings.Contains(name, "*"):
			p.report(source.UnknownEnvironment, span, "write environments = [\""+name+"\"] for a map of several",
				"%q is a pattern, and environment names one", name)
		case strings.Contains(name, "*"):
			if name != everyEnvironment && !slices.ContainsFunc(names,
				func(n string) bool { return place.Match(name, n) }) {
				p.report(source.UnknownEnvironment, span, help(name), "no other environment has a name like %q", name)
			}
		case other == nil:
			p.report(source.UnknownEnvironment, span, help(name),
				"there is no environment %q whose outputs could be read",
				name)
		case other.Abstract:
			p.report(source.UnknownEnvironment, span, help(name),
				"the environment %q is abstract: it only lends its layers to others, and has no outputs", name)
		}
	}
	if !c.tag.IsAbsent() && !slices.Contains(tags, c.tag.Text()) {
		slices.Sort(tags)
		tags = slices.Compact(tags)
		otherwise := "no environment has tags"
		if len(tags) > 0 {
			otherwise = "tags are " + source.FirstQuoted(tags, 8)
		}
		p.report(source.UnknownEnvironment, source.At(c.tag.Origin().Pos()),
			source.Suggest(c.tag.Text(), tags, otherwise), "no environment has the tag %q", c.tag.Text())
	}
}

// of returns the environments whose outputs an environment reads. A pattern or a tag chooses neither the environment
// itself nor others that collect in this way, so that each may be about all the rest.
func (c *Chosen) of(reader *Environment) (all []*Environment) {
	for _, e := range c.project.Concrete() {
		named := slices.ContainsFunc(c.names, func(v value.Value) bool { return v.Text() == e.Name })
		matched := !c.tag.IsAbsent() && slices.Contains(e.Tags, c.tag.Text()) ||
			slices.ContainsFunc(c.names, func(v value.Value) bool {
				return strings.Contains(v.Text(), "*") && place.Match(v.Text(), e.Name)
			})
		if matched && !named {
			matched = e.Name != reader.Name && !slices.ContainsFunc(e.written(),
				func(l *Layer) bool { return l.Outputs != nil && l.Outputs.collects() })
		}
		if named || matched {
			all = append(all, e)
		}
	}
	return all
}

// outputs is what was evaluated for a run: its outputs, and the layers that outputs of others make for it.
type outputs struct {
	lock   sync.Mutex
	layers map[*Layer]*Layer

	evaluating sync.Mutex
	world      *eval.World
	values     map[string]value.Value // Absent for one that failed
	recorded   *eval.World
}

func newOutputs() *outputs {
	return &outputs{layers: map[*Layer]*Layer{}, values: map[string]value.Value{}}
}

// filled returns a layer of outputs with its values, as a run reads it.
func (l *Layer) filled(reader *Run) *Layer {
	o := reader.outputs
	o.lock.Lock()
	defer o.lock.Unlock()
	if full, ok := o.layers[l]; ok {
		return full
	}
	full := &Layer{Path: l.Path, Into: l.Into, Outputs: l.Outputs, intoSpan: l.intoSpan, Bad: true}
	o.layers[l] = full
	if !l.Outputs.circular && reader.Unit.Project.Program != nil {
		reader.fillOutputs(full)
	}
	return full
}

// FeedsInto reports whether an environment reads outputs of this one, also by way of others.
func (e *Environment) FeedsInto(reader *Environment) bool {
	seen := map[*Environment]bool{}
	var feeds func(reader *Environment) bool
	feeds = func(reader *Environment) bool {
		if seen[reader] {
			return false
		}
		seen[reader] = true
		return slices.ContainsFunc(reader.written(), func(l *Layer) bool {
			return l.Outputs != nil && slices.ContainsFunc(l.Outputs.of(reader), func(other *Environment) bool {
				return other == e || feeds(other)
			})
		})
	}
	return feeds(reader)
}

// fillOutputs evaluates the outputs that a layer of the run is made of.
func (r *Run) fillOutputs(l *Layer) {
	c, wanted := l.Outputs, types.Type(types.Any)
	if m := r.Unit.Module; m != nil {
		if o := m.Objects[l.Into]; o != nil && o.Kind == check.ObjectInput {
			wanted = o.Type
		}
	}
	at := value.From(c.span.Start)
	var byName value.Builder
	good := true
	for _, e := range c.of(r.Environment) {
		t := wanted
		if !c.One {
			t, _ = fieldOf(recordOf(wanted), e.Name)
		}
		v, ok := r.of(e).outputsFor(t, l)
		good = good && ok
		byName.Set(e.Name, v)
	}
	v := byName.Record(at)
	if c.One {
		if v.Len() == 0 {
			return // there is no such environment, which is reported
		}
		v = v.Values()[0]
	}
	l.Root, l.Bad = value.RecordOf(value.NewShape([]string{l.Into}), []value.Value{v}, at), !good
}

// OutputsOf returns the outputs of a module, in the order of their declaration.
func OutputsOf(m *check.Module) (outputs []*check.Object) {
	for _, o := range m.Order {
		if o.Kind == check.ObjectOutput && m.Objects[o.Name] == o {
			outputs = append(outputs, o)
		}
	}
	return outputs
}

// outputsFor returns the outputs of the run that a type names, all when it names none. What is wrong with them is added
// to the findings of the layer that they are for.
func (r *Run) outputsFor(t types.Type, l *Layer) (v value.Value, ok bool) {
	var b value.Builder
	at, m := value.From(l.Outputs.span.Start), r.Unit.Module
	if m == nil {
		return b.Record(at), false
	}
	var names []string
	for _, o := range OutputsOf(m) {
		names = append(names, o.Name)
	}
	wanted, whole := names, true
	if record := recordOf(t); record != nil && record.Rest == nil {
		wanted = nil
		for _, f := range record.Fields {
			switch {
			case slices.Contains(names, f.Name):
				wanted = append(wanted, f.Name)
			case f.Optional || f.Default != nil:
			case m.Findings.HasErrors() || m.Tree.Findings.HasErrors():
				whole = false // it may be in what has errors
			default:
				l.findings.Add(source.Finding{Code: source.MissingField, Span: l.Outputs.span,
					Message: fmt.Sprintf("%s has no output %q (%s), which the input %q needs", r.Name, f.Name,
						f.Type, l.Into),
					Help: source.Suggest(f.Name, names,
						fmt.Sprintf("declare it in %s: output %s = …", m.Path, f.Name)),
					Related: []source.Related{{Span: f.Span, Text: "the field"}}})
			}
		}
	}
	values, findings := r.outputValues(wanted)
	l.findings = append(l.findings, findings...)
	ok = whole && !l.findings.HasErrors()
	for _, name := range wanted {
		if v := values[name]; v.IsAbsent() {
			ok = false // its declaration has an error
		} else {
			b.Set(name, v)
		}
	}
	return b.Record(at), ok
}

// outputValues evaluates outputs of the run, those that were not yet.
func (r *Run) outputValues(names []string) (map[string]value.Value, source.Findings) {
	o, m := r.outputs, r.Unit.Module
	o.evaluating.Lock()
	defer o.evaluating.Unlock()
	if o.world == nil {
		o.world = r.World(false)
		// What must hold there must hold for who reads it, too.
		nothing := eval.Visitor{Document: func(*eval.Document) {}, Remark: func(value.Value) {}}
		for _, object := range m.Order {
			if object.Kind == check.ObjectStatement && check.ContentsOf(object.Declaration).Requires {
				o.world.Visit(object, nothing)
			}
		}
	}
	for _, name := range names {
		if _, ok := o.values[name]; !ok {
			o.values[name], _ = o.world.Value(m.Objects[name])
		}
	}
	o.world.Complete(false)
	return maps.Clone(o.values), slices.Clone(o.world.Findings())
}

// Output is a value that a run has from an output of an upstream run, in a recorded evaluation of that.
type Output struct {
	Run   *Run // whose output it is
	World *eval.World
	Value value.Value
}

// OutputOf returns the output that a value comes from, in an input that is outputs of other environments. The way leads
// from the input to the value, as a JSON Pointer does (RFC 6901). It is nil when the value comes from no output.
func (r *Run) OutputOf(way []string) *Output {
	for _, l := range slices.Backward(r.AllLayers()) {
		if _, ok := followed(l.Root, way); !ok {
			continue
		}
		if l.Outputs == nil {
			return nil
		}
		rest := way[1:]
		for _, e := range l.Outputs.of(r.Environment) {
			switch {
			case l.Outputs.One:
			case len(rest) == 0 || rest[0] != e.Name:
				continue
			default:
				rest = rest[1:]
			}
			if len(rest) == 0 {
				return nil // all its outputs together
			}
			from := r.of(e)
			output := &Output{Run: from, World: from.recordedOutputs()}
			v, _ := output.World.Value(from.Unit.Module.Objects[rest[0]])
			if v, ok := followed(v, rest[1:]); ok {
				output.Value = v
				return output
			}
			return nil
		}
	}
	return nil
}

// followed returns what a way leads to in a value. Where it goes through a list without saying by which element, it is
// the list.
func followed(v value.Value, way []string) (found value.Value, ok bool) {
	for _, step := range way {
		inner, ok := place.Child(v, step)
		switch {
		case ok:
			v = inner
		case v.Kind() == value.List:
			return v, true
		default:
			return v, false
		}
	}
	return v, !v.IsAbsent()
}

// recordedOutputs returns the world in which the outputs of the run are evaluated for what they depend on.
func (r *Run) recordedOutputs() *eval.World {
	r.outputs.evaluating.Lock()
	defer r.outputs.evaluating.Unlock()
	if r.outputs.recorded == nil {
		r.outputs.recorded = r.World(true)
	}
	return r.outputs.recorded
}

// missingUpstream reports whether an input depends on outputs that could not be evaluated, which is reported.
func (r *Run) missingUpstream(input string) bool {
	return slices.ContainsFunc(r.written(), func(l *Layer) bool {
		return l.Outputs != nil && l.Into == input && l.filled(r).Bad
	})
}

// fromOutputs reports whether an input has its value from the outputs of another environment.
func (r *Run) fromOutputs(input string) bool {
	return slices.ContainsFunc(r.written(), func(l *Layer) bool { return l.Outputs != nil && l.Into == input })
}
