package command

import (
	"encoding/json"
	"flag"
	"fmt"
)

var schemaCommand = &command{
	name: "schema", arguments: "export --inputs [MODULE]",
	short: "JSON Schema of the layers, for editors",
	long: `"schema export --inputs" writes a JSON Schema (2020-12) of the layers of the project, or of those of a
module: with it an editor completes the names of inputs and marks values that do not fit. A layer need not give all
inputs, so none is required. Limits that JSON Schema cannot express are written as comments; check has the last word.`,
	example: "knothole schema export --inputs",
	define: func(flags *flag.FlagSet) func(c *call) int {
		inputs := flags.Bool("inputs", false, "the schema of a layer")
		return func(c *call) int { return runSchema(c, *inputs) }
	},
}

func runSchema(c *call, inputs bool) int {
	if len(c.arguments) == 0 || c.arguments[0] != "export" || len(c.arguments) > 2 || !inputs {
		return c.wrongUsage("write: schema export --inputs, and the path of a module if it is not the main one")
	}
	c.arguments = c.arguments[1:]
	p, _, modules, status := c.openModules()
	if p == nil {
		return status
	}
	if len(c.arguments) == 1 && len(modules) != 1 {
		return c.wrongUsage("%s is not one module", c.arguments[0])
	}
	if p.Module == nil || p.Findings.HasErrors() {
		c.presenter(p, c.err).Findings(p.Findings.Tidy(p.Sources))
		fmt.Fprintln(c.err, "\nnothing was written: check finds all that is wrong")
		return exitFailed
	}
	module := p.Module
	for _, m := range p.Modules() {
		if len(modules) == 1 && m.Path == modules[0] {
			module = m
		}
	}
	encoder := json.NewEncoder(c.data)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(p.LayerSchema(module)); err != nil {
		return c.failed("%s", err)
	}
	return exitClean
}
