package present

import (
	"encoding/json"
	"fmt"
	"html"
	"strings"

	"knothole/core/compare"
	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/value"
)

// comparisonPatch shows a JSON Patch (RFC 6902) for each document that differs. A document on the second side only is
// added as a whole, one on the first only removed.
func (p *Presenter) comparisonPatch(c *compare.Comparison) error {
	type documentPatch struct {
		Document string            `json:"document"`
		Patch    []json.RawMessage `json:"patch"`
	}
	all := []documentPatch{}
	for _, d := range c.Documents {
		if d.Alike() {
			continue
		}
		one := documentPatch{Document: d.Path}
		for _, o := range d.Root.Patch() {
			one.Patch = append(one.Patch, json.RawMessage(data.CompactJSON(o.JSON())))
		}
		all = append(all, one)
	}
	return writeJSON(p.Out, all)
}

// mostMarkdown is how many characters are written for a review: what takes comments has a limit.
const mostMarkdown = 60_000

// comparisonMarkdown shows a comparison for a review: what it comes to, because of what, and what differs, folded.
func (p *Presenter) comparisonMarkdown(c *compare.Comparison, o ComparisonOptions) {
	s := &comparing{Presenter: p, c: c, options: o, groups: c.Groups(o.GroupOptions)}
	arrow := " → "
	if len(c.Sides) > 2 {
		arrow = ", "
	}
	p.printf("**%s**: %s\n", markdown(strings.Join(c.Sides, arrow)), comparisonCounts(c))
	if reasons := c.Reasons(); len(reasons) > 0 {
		p.printf("\n| because of | paths |\n|---|---:|\n")
		for i, r := range reasons {
			if i == manyReasons {
				p.printf("| and %d more | |\n", len(reasons)-i)
				break
			}
			p.printf("| %s | %d |\n", code(r.Name)+parts(r), r.Places)
		}
	}
	if c.Unread > 0 {
		p.printf("\nNot compared, since secrets are not read here: %s.\n", source.Count(c.Unread, "value"))
	}
	if paths := c.Reordered(); len(paths) > 0 {
		p.printf("\nSame data, other order of keys: %s.\n", markdown(strings.Join(paths, ", ")))
	}
	written := 0
	for i, g := range s.groups {
		text := s.markdownGroup(g)
		if written += len(text); written > mostMarkdown {
			p.printf("\nand %s more, which are left out here\n", source.Count(len(s.groups)-i, "group"))
			return
		}
		p.printf("%s", text)
	}
}

func (s *comparing) markdownGroup(g compare.Group) string {
	var b strings.Builder
	title := markdown(g.Cause)
	if g.Cause == "" {
		names := documentNames(g.Documents, ".")
		title = "<code>" + html.EscapeString(Clean(names[0])) + "</code>"
		if only := s.only(g.Documents[0]); only != "" {
			title += " " + markdown(only)
		}
		if len(names) > 1 {
			title = fmt.Sprintf("<code>%s</code>, %d documents",
				html.EscapeString(Clean(commonPattern(g.Documents))), len(names))
			if only := s.only(g.Documents[0]); only != "" && len(g.Rows) == 0 {
				title += " " + markdown(only)
			}
		}
	}
	if len(g.Rows) == 0 {
		fmt.Fprintf(&b, "\n%s (%s)\n", title, markdown(s.cause(g.Documents[0].Cause, g.Documents[0].Against)))
		return b.String()
	}
	fmt.Fprintf(&b, "\n<details><summary>%s: %s</summary>\n\n| path |", title, source.Count(len(g.Rows), "row"))
	for _, side := range s.c.Sides {
		b.WriteString(" " + markdown(side) + " |")
	}
	b.WriteString(" because of |\n|---|" + strings.Repeat("---|", len(s.c.Sides)+1) + "\n")
	for _, f := range g.Rows {
		more := ""
		if f.Values > 1 {
			more = fmt.Sprintf(" and %d more alike", f.Places-1)
		}
		fmt.Fprintf(&b, "| %s%s |", code(rowName(f)), more)
		texts := make([]string, len(f.Cells))
		for i, v := range f.Cells {
			if !v.IsAbsent() {
				texts[i] = value.Shown(v).Show(1 << 20)
			}
			if f.Kind == compare.Moved {
				texts[i] = fmt.Sprintf("[%d] %s", f.Node.At[i], texts[i])
			}
		}
		if !s.options.Full {
			texts = shortened(texts, mostCell)
		}
		for _, text := range texts {
			if text == "" {
				b.WriteString(" |")
			} else {
				b.WriteString(" " + code(text) + " |")
			}
		}
		b.WriteString(" " + markdown(s.cause(f.Cause, f.Against)) + " |\n")
	}
	b.WriteString("\n</details>\n")
	return b.String()
}

// mostCell is how wide a value in a table for a review is.
const mostCell = 60

// markdown makes a text are in a table as it is.
func markdown(text string) string {
	escaping := strings.NewReplacer("|", "\\|", "<", "&lt;", "*", "\\*", "_", "\\_", "`", "\\`", "\n", " ")
	return escaping.Replace(Clean(text))
}

// code shows a text as code.
func code(text string) string {
	return "`" + strings.NewReplacer("|", "\\|", "`", "'").Replace(Clean(text)) + "`"
}
