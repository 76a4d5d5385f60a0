package command

import (
	"fmt"

	"knothole/core/render"
	"knothole/core/value"
	"knothole/shell/present"
)

// printAnnotated prints documents with the source of each line beside it. What is secret is hidden.
func (r *rendering) printAnnotated(c *call, p *opened, results []*render.Result) int {
	presenter := c.presenter(p, c.out)
	first := true
	for _, result := range results {
		for i := range result.Documents {
			d := &result.Documents[i]
			hidden := *d
			if d.Secret {
				hidden.Value, hidden.Open = value.Shown(d.Value), false
			}
			text, err := hidden.Text()
			if err != nil {
				return c.failed("%s: %s", d.Path, err)
			}
			if !first {
				fmt.Fprintln(c.out)
			}
			first = false
			presenter.Annotated(&present.Annotation{Environment: result.Run.Environment.Name, Document: d.Path,
				Lines: render.Lines(d, text, result.Recorder(), p.Sources), Recorder: result.Recorder()})
		}
	}
	return exitClean
}
