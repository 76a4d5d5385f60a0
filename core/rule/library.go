package rule

import (
	"strings"

	"knothole/core/source"
	"knothole/core/standard"
	"knothole/core/syntax"
)

// LibraryModule describes a module of rules that comes with the program.
type LibraryModule struct {
	Path      string
	About     string // what it is for, on one line
	Inputs    []LibraryPart
	Rules     []LibraryPart
	Functions []LibraryPart // that other modules may use; none for a module of rules
}

// LibraryPart describes an input, a rule or a function of a module.
type LibraryPart struct {
	Name string
	// Text is how it is written: the type and default of an input, where a rule looks, the head of a function.
	Text  string
	About string // its description
}

// Library describes the modules that come with the program.
func Library() []LibraryModule {
	var all []LibraryModule
	for _, name := range standard.Names() {
		text, _ := standard.Read(name)
		file, err := source.NewSet().Add(name, text)
		if err != nil {
			continue // which is so for sources of gigabytes only
		}
		tree := syntax.Parse(file)
		m := LibraryModule{Path: name}
		for line := range strings.Lines(string(text)) {
			comment, ok := strings.CutPrefix(line, "#")
			if !ok {
				break
			}
			m.About = strings.TrimSpace(m.About + " " + strings.TrimSpace(comment))
		}
		for _, d := range tree.Declarations {
			h := d.Declared()
			part := LibraryPart{Name: h.Name.Name, About: strings.Join(strings.Fields(h.Description), " ")}
			if strings.HasPrefix(part.Name, "_") {
				continue
			}
			switch d := d.(type) {
			case *syntax.Input:
				part.Text = file.Slice(d.Type.Place())
				if d.Default != nil {
					part.Text += " = " + file.Slice(d.Default.Place())
				}
				m.Inputs = append(m.Inputs, part)
			case *syntax.Rule:
				part.Text = looks(d, file.Slice)
				m.Rules = append(m.Rules, part)
			case *syntax.Function:
				head, _, _ := strings.Cut(file.Slice(d.Span), "=")
				part.Text = strings.Join(strings.Fields(head), " ")
				m.Functions = append(m.Functions, part)
			case *syntax.Let:
				part.Text = "let " + part.Name
				m.Functions = append(m.Functions, part)
			}
		}
		if len(m.Rules) > 0 {
			m.Functions = nil
		}
		all = append(all, m)
	}
	return all
}
