package present

import (
	"fmt"
	"strings"

	"knothole/core/schema"
	"knothole/core/value"
)

// Kinds lists kinds: in which versions there are which, and where they come from.
func (p *Presenter) Kinds(kinds []*schema.Kind) {
	var rows [][]cell
	for _, k := range kinds {
		note := ""
		switch {
		case k.NotServed:
			note = "not served any more"
		case k.Deprecated != "":
			note = "deprecated"
		}
		from := k.From
		if from == "" {
			from = "built in"
		} else {
			from = p.file(from)
		}
		rows = append(rows, []cell{plainCell(k.Name), plainCell(k.APIVersion), plainCell(strings.ToLower(k.Scope)),
			plainCell(from), {text: note, paint: p.yellow}})
	}
	p.table(rows, 2, 3)
}

// Schema shows what a schema says, as a tree of fields.
func (p *Presenter) Schema(title string, f *schema.Field) {
	p.printf("%s   %s\n", p.bold(Clean(title)), f.Type)
	if f.Description != "" {
		for _, line := range p.paragraph(f.Description, 2) {
			p.printf("%s\n", line)
		}
	}
	if len(f.Values) > 0 {
		p.printf("  one of %s\n", values(f.Values))
	}
	if len(f.Inner) == 0 {
		return
	}
	p.printf("\n")
	names := 0
	each(f.Inner, 0, func(f *schema.Field, depth int) { names = max(names, 2*depth+columnsOf(f.Name)) })
	names = min(names, maxFieldNames)
	each(f.Inner, 0, func(f *schema.Field, depth int) {
		name := strings.Repeat("  ", depth) + Clean(f.Name)
		gap := strings.Repeat(" ", max(names-columnsOf(name), 0)+3)
		p.printf("%s%s%s\n", p.cyan(name), gap, p.fieldText(f))
		indent := columnsOf(name) + len(gap)
		for _, line := range p.paragraph(f.Description, min(indent, names+3)) {
			p.printf("%s\n", p.faint(line))
		}
	})
}

// maxFieldNames is how wide the column of the names of fields is at most.
const maxFieldNames = 44

// each visits fields and all in them.
func each(fields []*schema.Field, depth int, visit func(f *schema.Field, depth int)) {
	for _, f := range fields {
		visit(f, depth)
		each(f.Inner, depth+1, visit)
	}
}

func (p *Presenter) fieldText(f *schema.Field) string {
	text := f.Type
	if len(f.Values) > 0 {
		text = "one of " + values(f.Values)
	}
	if f.Required {
		text += ", " + p.bold("required")
	}
	if !f.Default.IsAbsent() {
		text += ", default " + Clean(f.Default.Show(60))
	}
	if f.Deprecated {
		text += ", " + p.yellow("deprecated")
	}
	if f.Deeper {
		text += " …"
	}
	return text
}

func values(all []value.Value) string {
	const most = 15
	var texts []string
	for _, v := range all[:min(len(all), most)] {
		texts = append(texts, Clean(v.Show(40)))
	}
	if len(all) > most {
		texts = append(texts, fmt.Sprintf("and %d more", len(all)-most))
	}
	return strings.Join(texts, ", ")
}

// paragraph breaks a text into lines of the width of the terminal, with an indent.
func (p *Presenter) paragraph(text string, indent int) []string {
	words := strings.Fields(Clean(text))
	if len(words) == 0 {
		return nil
	}
	width := p.Width
	if width < 40 {
		width = 100
	}
	space := strings.Repeat(" ", indent)
	return strings.Split(space+Fill(words, indent, max(width, indent+30), space), "\n")
}

// KindsJSON writes what Kinds shows, for programs.
func (p *Presenter) KindsJSON(kinds []*schema.Kind) error {
	type kindJSON struct {
		APIVersion string `json:"api_version"`
		Kind       string `json:"kind"`
		Scope      string `json:"scope,omitempty"`
		From       string `json:"from,omitempty"`
		BuiltIn    bool   `json:"built_in"`
		Served     bool   `json:"served"`
		Deprecated string `json:"deprecated,omitempty"`
	}
	all := []kindJSON{}
	for _, k := range kinds {
		from := ""
		if k.From != "" {
			from = p.file(k.From)
		}
		all = append(all, kindJSON{k.APIVersion, k.Name, k.Scope, from, k.From == "", !k.NotServed, k.Deprecated})
	}
	return writeJSON(p.Out, struct {
		Version int        `json:"version"`
		Kinds   []kindJSON `json:"kinds"`
	}{1, all})
}
