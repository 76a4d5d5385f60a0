// Package docs holds the pages of the manual, so that the program has them where there is no repository.
package docs

import (
	"embed"
	"strings"
)

//go:embed *.md
var pages embed.FS

// Page is one page of the manual.
type Page struct {
	Name     string // without its file extension, such as "language"
	Title    string
	Sections []Section
}

// Section is a part of a page, up to the next heading.
type Section struct {
	Title string // that of the page for what comes before the first heading
	Level int    // 1 for the page
	Text  string // Markdown, without the heading
}

// Pages returns the pages in the order of their names.
func Pages() []Page {
	entries, err := pages.ReadDir(".")
	if err != nil {
		panic(err) // they are part of the program
	}
	var all []Page
	for _, e := range entries {
		text, err := pages.ReadFile(e.Name())
		if err != nil {
			panic(err)
		}
		all = append(all, parse(strings.TrimSuffix(e.Name(), ".md"), string(text)))
	}
	return all
}

// parse splits a page at its headings. Lines in blocks of code are none, whatever they begin with.
func parse(name, text string) Page {
	page := Page{Name: name}
	code := false
	for line := range strings.Lines(text) {
		if strings.HasPrefix(line, "```") {
			code = !code
		}
		level := len(line) - len(strings.TrimLeft(line, "#"))
		if code || level == 0 || !strings.HasPrefix(line[level:], " ") {
			if n := len(page.Sections); n > 0 {
				page.Sections[n-1].Text += line
			}
			continue
		}
		title := strings.TrimSpace(line[level:])
		if page.Title == "" {
			page.Title = title
		}
		page.Sections = append(page.Sections, Section{Title: title, Level: level})
	}
	return page
}

// Below returns a section with all that are part of it: those of lower levels that follow.
func (p Page) Below(at int) []Section {
	end := at + 1
	for end < len(p.Sections) && p.Sections[end].Level > p.Sections[at].Level {
		end++
	}
	return p.Sections[at:end]
}
