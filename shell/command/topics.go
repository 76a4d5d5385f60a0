package command

import (
	"slices"
	"strings"

	"knothole/docs"
	"knothole/shell/present"
)

// topics lead from a word that people ask for to the section of the manual that tells of it: a page, or a page and the
// title of one of its sections.
var topics = map[string]string{
	"let": "language#Declarations", "fn": "language#Declarations", "type": "language#Declarations",
	"input": "language#Declarations", "output": "language#Declarations", "use": "language#Declarations",
	"document": "language#Declarations", "stream": "language#Declarations", "remark": "language#Declarations",
	"require": "language#Declarations", "example": "language#Declarations",
	"where": "language#Values and types", "null": "language#Values and types",
	"true": "language#Values and types", "false": "language#Values and types",
	"if": "language#Expressions", "then": "language#Expressions", "else": "language#Expressions",
	"for": "language#Expressions", "in": "language#Expressions", "match": "language#Expressions",
	"is": "language#Expressions", "as": "language#Expressions", "with": "language#Expressions",
	"and": "language#Expressions", "or": "language#Expressions", "not": "language#Expressions",
	"it": "language#Values and types", "matches": "language#Expressions",
	"env": "language#Environments", "include": "language#Components", "under": "language#Components",
	"components": "language#Components", "instances": "language#Components",
	"patch": "language#Patches", "each": "language#Patches", "put": "language#Patches",
	"replace": "language#Patches", "add": "language#Patches", "remove": "language#Patches",
	"merge": "language#Patches", "paths": "language#Patches",
	"secret": "language#Secrets", "later": "language#Later values", "unresolved": "language#Later values",
	"expect": "language#Tests", "advise": "language#Rules", "rule": "language#Rules",
	"layers": "projects#Layers", "environments": "language#Environments", "tagged": "sharing",
	"rules": "projects#Rules, exemptions, links", "exemptions": "projects#Rules, exemptions, links",
	"links": "projects#Rules, exemptions, links", "secrets": "projects#Secrets",
	"yaml": "language#Formats", "toml": "language#Formats", "json": "reference#JSON", "formats": "language#Formats",
	"exit": "reference#Exit statuses", "status": "reference#Exit statuses",
	"variables": "reference#Variables of the environment", "files": "reference#Files that knothole keeps",
	"knothole.toml": "reference#knothole.toml", "project": "reference#knothole.toml",
	"globs": "reference#Patterns of paths", "patterns": "reference#Patterns of paths",
	"words": "reference#Glossary", "glossary": "reference#Glossary", "limits": "language#Limits",
}

// manual returns the pages and sections of the manual that a topic leads to: a page, a word, or the title of a section.
func manual(topic string) (found [][]docs.Section) {
	pages := docs.Pages()
	section := func(name, title string) {
		for _, page := range pages {
			for i, s := range page.Sections {
				if page.Name == name && (s.Title == title || title == "" && i == 0) {
					found = append(found, page.Below(i))
				}
			}
		}
	}
	for _, page := range pages {
		if page.Name == topic {
			section(page.Name, "")
			return found
		}
	}
	if at, ok := topics[topic]; ok {
		name, title, _ := strings.Cut(at, "#")
		section(name, title)
		return found
	}
	for _, page := range pages {
		for i, s := range page.Sections {
			if strings.EqualFold(s.Title, topic) && page.Name != "codes" && page.Name != "functions" {
				found = append(found, page.Below(i))
			}
		}
	}
	return found
}

// manualTopics are the words for which there is a section, and the names of pages.
func manualTopics() (names []string) {
	for name := range topics {
		names = append(names, name)
	}
	for _, page := range docs.Pages() {
		names = append(names, page.Name)
	}
	slices.Sort(names)
	return names
}

// writeManual prints sections of the manual for a terminal.
func (c *call) writeManual(all [][]docs.Section) {
	for i, sections := range all {
		if i > 0 {
			c.out.Write([]byte("\n"))
		}
		for j, s := range sections {
			if j > 0 {
				c.out.Write([]byte("\n"))
			}
			present.Manual(c.out, s.Title, s.Text, c.helpWidth(), c.system.color)
		}
	}
}
