package command

import (
	"slices"

	"knothole/core/render"
)

// The form of what render tells of written files, version 2.
type (
	rendersJSON struct {
		Version      int            `json:"version"`
		Environments []renderedJSON `json:"environments"`
		Open         []openJSON     `json:"unresolved"`
		Remarks      []remarkJSON   `json:"remarks"`
	}
	// renderedJSON is what became of the documents of one environment, by their paths.
	renderedJSON struct {
		Environment string   `json:"environment"`
		Written     []string `json:"written"`
		Unchanged   []string `json:"unchanged"`
		Removed     []string `json:"removed"`
		Withheld    []string `json:"not_written"` // secret documents
	}
	openJSON struct {
		Environment string `json:"environment"`
		Document    string `json:"document"`
		Path        string `json:"path"`
		Placeholder string `json:"placeholder"`
	}
	remarkJSON struct {
		Environment string `json:"environment"`
		Text        string `json:"text"`
	}
)

// doneJSON tells what was done in each environment.
func doneJSON(all []*encoded, targets []*target) (done []renderedJSON) {
	for _, e := range all {
		one := renderedJSON{Environment: e.environment.Name, Written: []string{}, Unchanged: []string{},
			Removed: []string{}, Withheld: append([]string{}, e.withheld...)}
		for _, t := range e.targets() {
			s := t.plan.Summary()
			one.Written, one.Unchanged = append(one.Written, s.Written...), append(one.Unchanged, s.Unchanged...)
			one.Removed = append(one.Removed, s.Removed...)
		}
		for _, names := range [][]string{one.Written, one.Unchanged, one.Removed, one.Withheld} {
			slices.Sort(names)
		}
		done = append(done, one)
	}
	for _, t := range targets {
		if t.pruned {
			done = append(done, renderedJSON{Environment: t.environment, Written: []string{},
				Unchanged: []string{},
				Removed:   append([]string{}, t.plan.Summary().Removed...), Withheld: []string{}})
		}
	}
	return done
}

func renderingJSON(done []renderedJSON, open []render.Unresolved, remarks []remarkJSON) rendersJSON {
	out := rendersJSON{Version: 2, Environments: done, Open: []openJSON{}, Remarks: []remarkJSON{}}
	for _, o := range open {
		out.Open = append(out.Open, openJSON{o.Environment, o.Document, o.Path.String(), o.Text})
	}
	out.Remarks = append(out.Remarks, remarks...)
	return out
}
