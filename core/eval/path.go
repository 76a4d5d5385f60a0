package eval

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"knothole/core/check"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// Places is a path that was written outside of a module, on the command line or in the project file, ready to be
// followed.
type Places struct {
	other     *Places    // another way to read the path; nil when there is none
	operation *operation // nil for a JSON Pointer
	thread    *thread
	frame     int
	pointer   []string
}

// pathPrefix stands before a path to make a module of it.
const pathPrefix = "let found = patch decode.json(\"{}\") {\n  replace? "

// keyed matches an element that is named by its key alone, as comparisons show it: [bay-map], or in quotes ["8080"].
var keyed = regexp.MustCompile(`\[(?:([A-Za-z_][A-Za-z0-9_./:@-]*)|("(?:[^"\\]|\\.)*"))\]`)

// keyFields are the fields by which elements of lists are known, and those by which objects are.
var keyFields = []string{"name", "metadata.name", "id", "key", "path", "host", "port"}

// knownAs returns the condition that an element is known by a name: the text or number in one of its fields, or the
// kind and name of an object.
func knownAs(name string) string {
	var conditions []string
	_, err := strconv.ParseInt(name, 10, 64)
	for _, field := range keyFields {
		conditions = append(conditions, fmt.Sprintf("it.%s == %s", field, quoteText(name)))
		if err == nil {
			conditions = append(conditions, fmt.Sprintf("it.%s == %s", field, name))
		}
	}
	if kind, object, ok := strings.Cut(name, " "); ok {
		conditions = append(conditions, fmt.Sprintf("it.kind == %s and it.metadata.name == %s", quoteText(kind),
			quoteText(object)))
	}
	return "[" + strings.Join(conditions, " or ") + "]"
}

// quoteText writes a text as the language does, in which a dollar sign must not begin an interpolation.
func quoteText(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\' || r == '$':
			b.WriteString("\\" + string(r))
		case r < ' ' || r == 0x7F:
			fmt.Fprintf(&b, "\\u{%x}", r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}

// ParsePlaces reads a path: steps as patches have them, or [NAME] for the element that is known by a name; or, when
// it begins with a slash, a JSON Pointer (RFC 6901). The error says what is wrong with it, and at which column.
func ParsePlaces(text string, builtins *Builtins) (*Places, error) {
	written := strings.TrimSpace(text)
	if strings.HasPrefix(written, "/") {
		pointer, err := place.ParsePointer(written)
		if err != nil {
			return nil, fmt.Errorf("%q is no JSON Pointer (RFC 6901): %w", text, err)
		}
		return &Places{pointer: pointer}, nil
	}
	if written == "" || strings.ContainsAny(written, "\n\r") {
		return nil, fmt.Errorf("a path names a place in data, such as spec.replicas or spec.containers[*].image")
	}
	added := 0 // how many characters stand before what the person wrote
	if written[0] != '.' && written[0] != '[' {
		written, added = "."+written, 1
	}
	plain := written
	written = keyed.ReplaceAllStringFunc(written, func(step string) string {
		name := step[1 : len(step)-1]
		if name == "end" || name == "it" || strings.HasPrefix(name, "it.") {
			return step
		}
		if text, err := strconv.Unquote(name); err == nil {
			name = text
		}
		return knownAs(name)
	})
	p, err := readPlaces(text, written, added, builtins)
	if strings.Contains(plain, `["`) {
		// What stands in quotes may be the key of a record, too.
		if other, wrong := readPlaces(text, plain, added, builtins); wrong == nil && err == nil {
			p.other = other
		}
	}
	return p, err
}

// readPlaces reads a path as patches have it; added is how many characters stand before what the person wrote.
func readPlaces(text, written string, added int, builtins *Builtins) (*Places, error) {
	set := source.NewSet()
	file, err := set.Add("path", []byte(pathPrefix+written+": null\n}\n"))
	if err != nil {
		return nil, err
	}
	wrong := func(findings source.Findings) error {
		f := findings[0]
		column := file.Offset(f.Span.Start) - len(pathPrefix) + 1 - added
		column = max(1, min(column, len(written)-added))
		switch f.Code {
		case source.UnknownName:
			f.Help = "in brackets, it is the element in question: [it.name == \"…\"]"
		case source.Syntax:
			f.Help = ""
		}
		// What stands behind the path is not the person's.
		what := strings.Replace(f.Message, `expected ":" and a value behind the path, found`, "not expected here:", 1)
		what = strings.Replace(what, `found ":"`, "but it ends", 1)
		message := fmt.Sprintf("%q is no path: %s, at column %d", text, what, column)
		if f.Help != "" {
			message += "\n  " + f.Help
		}
		return fmt.Errorf("%s", message)
	}
	tree := syntax.Parse(file)
	if tree.Findings.HasErrors() {
		return nil, wrong(tree.Findings)
	}
	m := &check.Module{Path: "path", Tree: tree, Main: true}
	program := &check.Program{Sources: set, Universe: types.NewUniverse(), Builtins: builtins.Builtins,
		Modules: []*check.Module{m}}
	if findings := check.Check(program); findings.HasErrors() {
		return nil, wrong(findings)
	}
	let, ok := tree.Declarations[0].(*syntax.Let)
	if !ok || len(tree.Declarations) != 1 {
		return nil, fmt.Errorf("%q is no path", text)
	}
	patch, ok := let.Value.(*syntax.Patch)
	if !ok || len(patch.Body) != 1 {
		return nil, fmt.Errorf("%q is no path: it ends before its last character", text)
	}
	tree0, ok := patch.Body[0].(*syntax.Operation)
	if !ok {
		return nil, fmt.Errorf("%q is no path", text)
	}
	p := New(program, builtins, nil, nil)
	w := p.World(Environment{})
	owner := m.Objects["found"]
	c := &compiler{program: p, module: m}
	return &Places{operation: c.compileOperation(tree0), thread: w.thread(owner),
		frame: owner.Frame}, nil
}

// Find returns the places in data to which the path leads, in order. When there is none, or the data does not meet a
// step that must be met, why says so.
func (p *Places) Find(data value.Value) (found []place.Found, why string) {
	if p.other != nil {
		if found, _ = p.other.Find(data); len(found) > 0 {
			return found, ""
		}
	}
	if p.operation == nil {
		one, missing := place.Follow(data, p.pointer)
		if missing != "" {
			return nil, "there is nothing at " + missing
		}
		return []place.Found{one}, ""
	}
	p.thread.steps = 0
	before := len(p.thread.reports.findings)
	ok := guard(func() {
		p.thread.run(func(f *frame) {
			var chosen []value.Origin
			pattern := p.operation.pattern(f, &chosen)
			var miss *place.Miss
			if found, miss = place.Find(data, pattern,
				func(n int) { f.spend(n, p.operation.tree.PathSpan) }); miss != nil {
				finding := p.operation.explain(f, miss, "")
				why = strings.TrimPrefix(finding.Message, p.operation.tree.Verb.String()+": ")
				if finding.Help != "" {
					why += "; " + finding.Help
				}
			}
		}, p.frame)
	})
	if findings := p.thread.reports.findings; !ok && len(findings) > before {
		why = findings[len(findings)-1].Message
		p.thread.reports.findings = findings[:before]
		return nil, why
	}
	return found, why
}
