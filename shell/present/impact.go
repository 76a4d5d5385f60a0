package present

import (
	"strings"

	"knothole/core/compare"
	"knothole/core/source"
)

// impact shows what a change does, by the environments in which it does the same.
func (p *Presenter) impact(change string, impact *compare.Impact, o ComparisonOptions) {
	p.printf("%s\n", p.bold(Clean(change)))
	for _, b := range impact.Blocks {
		places := 0
		for _, d := range b.Documents {
			places += max(1, len(d.Rows))
		}
		p.printf("\nin %s: %s in %s\n", p.bold(Clean(strings.Join(b.Environments, ", "))),
			source.Count(places, "change"),
			source.Count(len(b.Documents), "document"))
		s := &comparing{Presenter: p, c: b.Comparison, options: o, groups: b.Groups(o.GroupOptions)}
		s.reasons()
		s.measure()
		for _, g := range s.groups {
			p.printf("\n")
			s.group(g)
		}
	}
	if len(impact.Secrets) > 0 {
		p.printf("\nsecrets from another source, which are not read here\n")
		var rows [][]cell
		for _, s := range impact.Secrets {
			rows = append(rows, []cell{{text: "  " + Clean(s.Environment)}, {text: Clean(s.Document)},
				{text: Clean(s.Path.String())}, {text: Clean(strings.Join(s.From, " → ")), paint: p.faint}})
		}
		p.table(rows, 2, mostPath)
	}
	if len(impact.Unchanged) > 0 {
		p.printf("\nnothing changes in %s\n", Clean(strings.Join(impact.Unchanged, ", ")))
	}
}

// impactMarkdown shows it for a review.
func (p *Presenter) impactMarkdown(change string, impact *compare.Impact, o ComparisonOptions) {
	p.printf("**%s**\n", markdown(change))
	for _, b := range impact.Blocks {
		p.printf("\nin **%s**:\n", markdown(strings.Join(b.Environments, ", ")))
		p.comparisonMarkdown(b.Comparison, o)
	}
	if len(impact.Secrets) > 0 {
		p.printf("\nSecrets from another source, which are not read here:\n\n")
		for _, s := range impact.Secrets {
			p.printf("- %s, %s, %s: %s\n", markdown(s.Environment), code(s.Document), code(s.Path.String()),
				code(strings.Join(s.From, " → ")))
		}
	}
	if len(impact.Unchanged) > 0 {
		p.printf("\nnothing changes in %s\n", markdown(strings.Join(impact.Unchanged, ", ")))
	}
}

// impactJSON shows it for programs.
func (p *Presenter) impactJSON(change string, impact *compare.Impact, o ComparisonOptions) error {
	type jsonBlock struct {
		Environments []string        `json:"environments"`
		Comparison   *jsonComparison `json:"comparison"`
	}
	type jsonSecret struct {
		Environment string   `json:"environment"`
		Document    string   `json:"document"`
		Path        string   `json:"path"`
		From        []string `json:"from"`
	}
	out := struct {
		Version   int          `json:"version"`
		Change    string       `json:"change"`
		Blocks    []jsonBlock  `json:"blocks"`
		Secrets   []jsonSecret `json:"secrets"`
		Unchanged []string     `json:"unchanged"`
	}{2, change, []jsonBlock{}, []jsonSecret{}, append([]string{}, impact.Unchanged...)}
	for _, b := range impact.Blocks {
		out.Blocks = append(out.Blocks, jsonBlock{b.Environments, p.comparisonModel(b.Comparison, o)})
	}
	for _, s := range impact.Secrets {
		out.Secrets = append(out.Secrets, jsonSecret{s.Environment, s.Document, s.Path.String(), s.From})
	}
	return writeJSON(p.Out, out)
}
