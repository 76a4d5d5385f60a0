package eval

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// hint says what else is at a path that was compared with something it is not.
type hint struct {
	path   []string // from the element to the place
	text   string   // as written
	wanted code
}

type hints []hint

// hints looks for comparisons in a condition of something in an element with a text.
func (c *compiler) hints(e syntax.Expression, root string) hints {
	b, ok := syntax.Bare(e).(*syntax.Binary)
	if !ok {
		return nil
	}
	switch b.Operator {
	case syntax.And:
		return append(c.hints(b.Left, root), c.hints(b.Right, root)...)
	case syntax.Equal:
		for _, side := range [][2]syntax.Expression{{b.Left, b.Right}, {b.Right, b.Left}} {
			path, ok := fieldsFrom(side[0], root)
			_, nested := fieldsFrom(side[1], root)
			if ok && !nested && simple(side[1]) {
				return hints{{path: path, text: c.module.Tree.File.Slice(side[0].Place()),
					wanted: c.expression(side[1])}}
			}
		}
	}
	return nil
}

// simple reports whether an expression is a literal or a name with fields.
func simple(e syntax.Expression) bool {
	switch e := syntax.Bare(e).(type) {
	case *syntax.String, *syntax.Name:
		return true
	case *syntax.Field:
		return simple(e.Of)
	}
	return false
}

// fieldsFrom returns the fields that lead from a name, or from `it`, to an expression.
func fieldsFrom(e syntax.Expression, root string) ([]string, bool) {
	switch e := syntax.Bare(e).(type) {
	case *syntax.It:
		return nil, root == "it"
	case *syntax.Name:
		return nil, e.Name == root
	case *syntax.Field:
		path, ok := fieldsFrom(e.Of, root)
		return append(path, e.Name.Name), ok
	}
	return nil, false
}

// tell says what else the elements hold at a place that was compared.
func (hints hints) tell(f *frame, elements []value.Value) string {
	for _, h := range hints {
		var texts []string
		for _, v := range elements {
			for _, key := range h.path {
				if v.Kind() != value.Record {
					v = value.Value{}
					break
				}
				v = v.Get(key)
			}
			if v.Kind() == value.String && v.Mark() == 0 && !slices.Contains(texts, v.Text()) {
				texts = append(texts, v.Text())
			}
		}
		wanted := h.wanted(f)
		if len(texts) == 0 || wanted.Kind() != value.String || slices.Contains(texts, wanted.Text()) {
			continue
		}
		return source.Suggest(wanted.Text(), texts, h.text+" is "+source.FirstQuoted(texts, 8))
	}
	return ""
}

// miss notes that an operation failed in the current document.
func (p *patching) miss(f *frame, o *operation, miss *place.Miss, data value.Value) {
	name := p.document
	for _, known := range p.failures {
		if known.operation != o {
			continue
		}
		if len(known.others) == shownOthers {
			known.more++
			return
		}
		related := source.Related{Span: source.At(f.recorder.Pos(data.Origin())), Text: "also in " + name}
		known.others = append(known.others, related)
		return
	}
	p.failures = append(p.failures, &failure{operation: o, finding: o.explain(f, miss, name)})
}

// explain says why an operation failed: how far its path led, what is there instead, and what was probably meant.
func (o *operation) explain(f *frame, m *place.Miss, name string) source.Finding {
	span, stepText := o.tree.PathSpan, ""
	var s *step
	if m.Step < len(o.steps) {
		s = &o.steps[m.Step]
		span = s.tree.Span
		stepText = s.text
	}
	here, in, of := "", "", ""
	if m.Path != nil {
		here = m.Path.String()
		in, of = " in "+here, " of "+here
	} else if here = "this"; name != "" {
		here = "the document"
	}
	finding := source.Finding{Code: source.NoPath, Span: span}
	message, help := "", ""
	switch m.Reason {
	case place.Missing:
		message, help = o.missing(f, m, s, in, stepText)
	case place.NotRecord:
		finding.Code = source.WrongType
		message = fmt.Sprintf("%s is %s, which has no fields", here, describeValue(m.Found))
		if m.Found.Kind() == value.List {
			help = "an element is named in brackets: [0], [it.name == \"…\"], [*]"
		}
	case place.NotList:
		finding.Code = source.WrongType
		message = fmt.Sprintf("%s is %s, which has no elements", here, describeValue(m.Found))
		if m.Found.Kind() == value.Record {
			help = "a field is named by its key: .name, every field by .*"
		}
	case place.Taken:
		finding.Code = source.PathTaken
		message, help = fmt.Sprintf("%s is there already: %s", here, m.Found.Show(60)),
			"replace changes what is there; put does so too, and adds it where it is absent"
	case place.Several:
		finding.Code = source.SeveralElements
		positions := make([]string, len(m.Elements))
		for i, at := range m.Elements {
			positions[i] = "[" + strconv.Itoa(at) + "]"
		}
		message = fmt.Sprintf("%d elements%s satisfy %s: %s", len(positions), of, inner(stepText),
			strings.Join(positions, ", "))
		help = fmt.Sprintf("narrow the condition, or write [* where %s] for all of them", inner(stepText))
		if s.tree.Kind == syntax.NamedStep {
			message = fmt.Sprintf("%d elements%s are known as %q: %s", len(positions), of, s.tree.Keys[0].Name,
				strings.Join(positions, ", "))
			help = "name one by its position"
		}
	case place.NoneHolds:
		message, help = fmt.Sprintf("no element%s satisfies %s", of, inner(strings.TrimPrefix(stepText, "[* where"))),
			s.hints.tell(f, m.Found.Elements())
		if s.tree.Kind == syntax.NamedStep {
			message = fmt.Sprintf("no element%s is known as %q", of, s.tree.Keys[0].Name)
		}
		if m.Found.Len() == 0 {
			help = "the list is empty"
		}
	case place.CannotJoin:
		finding.Code = source.WrongType
		message, help = fmt.Sprintf("%s is %s, and records merge with records only", here, describeValue(m.Found)),
			"replace puts another value there"
	case place.TooDeep:
		finding.Code = source.TooDeep
		message, help = "the data nests too deep to be searched", "write the path"
	}
	if m.More > 0 {
		message += fmt.Sprintf(" (and %s more)", source.Count(m.More, "path"))
	}
	verb := o.tree.Verb.String()
	if name != "" {
		verb += " in " + name
	}
	finding.Message, finding.Help = verb+": "+message, help
	if p := f.recorder.Pos(m.Found.Origin()); p.IsValid() && p != span.Start {
		text := here + " is here"
		if m.Path == nil {
			text = "it comes from here"
		}
		finding.Related = []source.Related{{Span: source.At(p), Text: text}}
	}
	return finding
}

// inner is a condition without the brackets of its step.
func inner(step string) string {
	return strings.TrimSpace(strings.TrimSuffix(strings.TrimPrefix(step, "["), "]"))
}

// missing explains a step that leads nowhere.
func (o *operation) missing(f *frame, m *place.Miss, s *step, in, stepText string) (message, help string) {
	if s == nil {
		return "nothing is there", ""
	}
	switch s.tree.Kind {
	case syntax.IndexStep:
		if m.Found.Kind() == value.List {
			return fmt.Sprintf("there is no element %s%s: the list has %s", inner(stepText), in,
				source.Count(m.Found.Len(), "element")), ""
		}
	case syntax.KeyStep, syntax.ChoiceStep, syntax.NamedStep:
	case syntax.DeepStep:
		return fmt.Sprintf("no path%s satisfies %s", in, o.path[strings.Index(o.path, stepText):]), ""
	default:
		if !o.tree.Optional {
			help = "write " + o.tree.Verb.String() + "? where there need not be any"
		}
		return fmt.Sprintf("%s finds nothing%s", stepText, in), help
	}
	var keys []string
	for _, key := range s.keys {
		keys = append(keys, key(f).Text())
	}
	if s.index != nil {
		keys = append(keys, s.index(f).Text())
	}
	there := m.Found.Shape().Keys()
	message = fmt.Sprintf("there is no %q%s", keys[0], in)
	if len(keys) > 1 {
		message = fmt.Sprintf("there is none of %s%s", source.FirstQuoted(keys, len(keys)), in)
	}
	for _, key := range keys {
		if near, ok := source.Nearest(key, there); ok {
			return message, source.DidYouMean(near)
		}
	}
	help = "it has " + source.FirstQuoted(there, 8)
	if len(there) == 0 {
		help = "the record is empty"
	}
	if m.Step == len(o.steps)-1 && o.tree.Verb == syntax.ReplaceVerb && !o.tree.Optional {
		help += "; put adds what is not there"
	}
	if merge := o.merge[m.Step]; merge != "" && !o.tree.Optional {
		help += "; " + merge + " adds it"
	}
	return message, help
}
