package project

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// Complete adds the inputs that the environment leaves to their defaults to its last own layer, as comments.
func (e *Editor) Complete() error {
	l, err := e.layer(nil)
	if e.in == "" {
		own := e.own()
		if len(own) == 0 {
			return fmt.Errorf("all layers of %s are those of other environments too: choose one with --in",
				e.environment.Name)
		}
		l, err = own[len(own)-1], nil
	}
	if err != nil {
		return err
	}
	format, _ := data.FormatOf(l.Path)
	if format.Comment() == "" {
		return fmt.Errorf("%s: JSON has no comments", l.Path)
	}
	text, err := e.text(l)
	if err != nil {
		return err
	}
	has := e.run().Gives
	var left []*Input
	for _, in := range e.project.InputsOf(e.unit.Module) {
		if !in.Secret && !in.Later && !in.Required() && !has(in) && !slices.Contains(e.names, in.Name()) &&
			!mentioned(text, in) {
			left = append(left, in)
		}
	}
	if len(left) == 0 {
		return nil
	}
	text, err = completed(l.Path, format, text, left)
	if err != nil {
		return err
	}
	e.keep(l, text)
	return nil
}

// insertion is text that comes before a line, for a record so deep in the layer.
type insertion struct {
	line, depth int
	text        string
}

// completed adds inputs to the text of a layer as comments, each where it would have to stand, so that it is given by
// taking the mark of the comment away.
func completed(name string, format data.Format, text string, left []*Input) (string, error) {
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	file, err := source.NewSet().Add(name, []byte(text))
	if err != nil {
		return "", err
	}
	root, findings := data.Read(file, format, data.Keys{})
	if findings.HasErrors() {
		return "", fmt.Errorf("%s: %s", name, findings[0].Message)
	}
	var inserted []insertion
	var elsewhere []*Input
	for i := 0; i < len(left); {
		// What is missing of a record that is there goes into it, and a record that is not there is added as a whole.
		missing := left[i].Path[:1]
		for len(missing) < len(left[i].Path) && at(root, missing).Kind() == value.Record {
			missing = left[i].Path[:len(missing)+1]
		}
		last := i + 1
		for last < len(left) && len(left[last].Path) >= len(missing) &&
			slices.Equal(left[last].Path[:len(missing)], missing) {
			last++
		}
		line, indent, key, ok := placeFor(file, format, missing)
		if ok {
			inserted = append(inserted,
				insertion{line, len(missing), commented(left[i:last], len(missing)-1, format, indent, key)})
		} else {
			elsewhere = append(elsewhere, left[i:last]...)
		}
		i = last
	}
	// Where records end together, what belongs to the inner one comes first.
	slices.SortStableFunc(inserted, func(a, b insertion) int { return cmp.Or(a.line-b.line, b.depth-a.depth) })
	var b strings.Builder
	for i, line := range strings.SplitAfter(text, "\n") {
		for ; len(inserted) > 0 && inserted[0].line == i; inserted = inserted[1:] {
			if b.Len() == 0 {
				inserted[0].text = strings.TrimPrefix(inserted[0].text, "\n")
			}
			b.WriteString(inserted[0].text)
		}
		if i == 0 && b.Len() > 0 && strings.TrimSpace(line) != "" {
			b.WriteByte('\n')
		}
		b.WriteString(line)
	}
	if len(elsewhere) > 0 {
		b.WriteString("\n# Optional fields of the records above, with their defaults:\n")
		for _, in := range elsewhere {
			b.WriteString(strings.TrimSuffix("# "+in.Name()+": "+defaults.literal(in, format), " ") + "\n")
		}
	}
	return b.String(), nil
}

// placeMark stands for a value that is put into a layer to see where it goes.
const placeMark = "knothole-place"

// placeFor returns the line of a layer before which a key has to be put, how that is indented, and what is before
// its value there; ok is false when it has no line of its own.
func placeFor(file *source.File, format data.Format, path []string) (line int, indent, key string, ok bool) {
	with, err := data.Set(file, format, path, value.StringOf(placeMark, 0))
	if err != nil {
		return 0, "", "", false
	}
	before, after := strings.SplitAfter(file.Text, "\n"), strings.SplitAfter(with, "\n")
	for line < len(before) && line < len(after) && before[line] == after[line] {
		line++
	}
	same := len(before) - line // behind it
	if len(after)-same <= line || !slices.Equal(before[line:], after[len(after)-same:]) {
		return 0, "", "", false
	}
	for _, added := range after[line : len(after)-same] {
		text := strings.TrimLeft(added, " \t")
		if key, _, ok = strings.Cut(text, placeMark); ok {
			return line, added[:len(added)-len(text)], strings.TrimRight(key, ` "=:`), strings.TrimSpace(key) != ""
		}
	}
	return 0, "", "", false
}

// commented writes inputs as comments of a layer, below a key that stands so deep in their names.
func commented(inputs []*Input, depth int, format data.Format, indent, key string) string {
	var b strings.Builder
	if format == data.YAML {
		inner := make([]*Input, len(inputs))
		for i, in := range inputs {
			part := *in
			part.Path = in.Path[depth:]
			inner[i] = &part
		}
		defaults.yaml(&b, inner, 0, -1)
	} else {
		defaults.toml(&b, inputs, "# ", func(in *Input) string {
			name := key
			for _, step := range in.Path[depth+1:] {
				name += "." + place.Key(step)
			}
			return name
		})
	}
	var result strings.Builder
	if depth == 0 {
		result.WriteByte('\n')
	}
	for line := range strings.Lines(b.String()) {
		result.WriteString(indent + line)
	}
	return result.String()
}

// mentioned reports whether a comment of a layer holds an input already.
func mentioned(text string, in *Input) bool {
	for line := range strings.Lines(text) {
		rest, comment := strings.CutPrefix(strings.TrimSpace(line), "#")
		rest = strings.TrimSpace(rest)
		for i := range in.Path { // it may be in a table or a record
			behind, ok := strings.CutPrefix(rest, (&Reference{Path: in.Path[i:]}).Name())
			behind = strings.TrimSpace(behind)
			if comment && ok && (strings.HasPrefix(behind, "=") || strings.HasPrefix(behind, ":")) {
				return true
			}
		}
	}
	return false
}
