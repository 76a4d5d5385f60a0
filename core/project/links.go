package project

import (
	"strings"

	"knothole/core/source"
	"knothole/core/value"
)

// Link says that values in some documents name others, or that labels in them select others: an entry of [[links]].
type Link struct {
	// Kinds says that it stands for all links between the common kinds of the open object format.
	Kinds    bool
	From, To []LinkEnd
	Labels   bool     // labels select documents; else a value is that of another document
	Scope    string   // a place whose value is equal on both sides; empty for none
	Outside  []string // patterns of names that exist elsewhere
	Optional string   // a field beside the name; where it is true, nothing need be there
	Span     source.Span

	ScopeSpan source.Span
}

// LinkEnd is one end of a link: a place in the documents of a kind, or of those whose paths match a pattern.
type LinkEnd struct {
	Kind      string // empty for a pattern
	Documents string // a pattern of paths; empty for a kind
	Place     string
	Text      string // as it is written
	Span      source.Span
}

// Links returns the links between documents, in the order of the project file.
func (p *Project) Links() []*Link { return p.links }

func (p *Project) readLinks(top *configuration) {
	top.tables("links", func(c *configuration) {
		if link := c.link(); link != nil {
			p.links = append(p.links, link)
		}
	})
}

func (c *configuration) link() *Link {
	c.known("kinds", "from", "to", "match", "scope", "outside", "optional")
	link := &Link{Span: c.keyOf(c.table)}
	for _, v := range c.texts("outside", "names") {
		link.Outside = append(link.Outside, v.Text())
	}
	if v, ok := c.get("kinds", value.Bool); ok {
		link.Kinds = v.Bool()
	}
	if link.Kinds {
		for _, key := range []string{"from", "to", "match", "scope", "optional"} {
			if v := c.table.Get(key); !v.IsAbsent() {
				c.report(source.WrongUse, c.keyOf(v), "leave it out, or write an entry of its own",
					"%s with kinds = true, which says it for the common kinds", key)
			}
		}
		return link
	}
	ok := c.end("from", `from = "k8s/**: spec.serviceName"`, &link.From)
	ok = c.end("to", `to = "kind Service: metadata.name"`, &link.To) && ok
	if v, is := c.get("match", value.String); is {
		switch v.Text() {
		case "labels":
			link.Labels = true
		case "name":
		default:
			c.report(source.WrongType, source.At(v.Origin().Pos()),
				`write match = "labels", or leave it out for names`,
				"match in [[links]] is \"name\" or \"labels\", not %s", v.Show(40))
			ok = false
		}
	}
	if v, is := c.get("scope", value.String); is {
		link.Scope, link.ScopeSpan = v.Text(), source.At(v.Origin().Pos())
	}
	if v, is := c.get("optional", value.String); is {
		link.Optional = v.Text()
	}
	if !ok {
		return nil
	}
	return link
}

// end reads one end of a link, a string or a list of them.
func (c *configuration) end(key, example string, ends *[]LinkEnd) bool {
	v := c.table.Get(key)
	texts := []value.Value{v}
	switch v.Kind() {
	case value.Absent:
		c.report(source.MissingField, c.keyOf(c.table), "write: "+example+", or kinds = true for the common kinds",
			"an entry of [[links]] says from where to where")
		return false
	case value.List:
		texts = c.texts(key, "paths in documents")
	case value.String:
	default:
		c.report(source.WrongType, source.At(v.Origin().Pos()), "write: "+example,
			"%s in [[links]] names documents and a path in them, not %s", key, v.Show(40))
		return false
	}
	ok := len(texts) > 0
	for _, v := range texts {
		documents, place, found := strings.Cut(v.Text(), ": ")
		if !found || strings.TrimSpace(place) == "" || strings.TrimSpace(documents) == "" {
			c.report(source.WrongType, source.At(v.Origin().Pos()), "write: "+example,
				"an end of a link names documents and a path in them, with a colon and a space between")
			ok = false
			continue
		}
		end := LinkEnd{Place: strings.TrimSpace(place), Text: v.Text(), Span: source.At(v.Origin().Pos())}
		if kind, is := strings.CutPrefix(documents, "kind "); is {
			end.Kind = strings.TrimSpace(kind)
		} else {
			end.Documents = documents
		}
		*ends = append(*ends, end)
	}
	return ok
}
