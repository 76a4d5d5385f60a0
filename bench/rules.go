package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"knothole/core/builtin"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/rule"
	"knothole/core/standard"
)

// ruleCount is how many rules the fleet is held to.
const ruleCount = 50

// brokenRules are those that come with the program and that every workload of the fleet breaks. They are left out: a
// team that holds rules has few violations, and what they cost is told apart.
var brokenRules = map[string][]string{
	"standard/images":       {"images_pinned"},
	"standard/isolation":    {"not_root", "root_is_read_only", "no_more_rights"},
	"standard/availability": {"budgets_set"},
}

// ownRules are the rules beside those that come with the program: as teams write them, on kinds, labels, ports and
// settings.
func ownRules(n int) string {
	var b strings.Builder
	b.WriteString("fn containers(doc: any) -> [any] = doc?.spec?.template?.spec?.containers ?? []\n")
	for i := range n {
		switch i % 4 {
		case 0:
			fmt.Fprintf(&b, `rule named_%d on doc at "**/*.yaml"
  where doc.kind in ["Deployment", "Service", "ConfigMap"] {
  require doc.metadata.name as (string) matches '^[a-z0-9-]{%d,60}$' else "a name of another form"
}
`, i, 1+i%3)
		case 1:
			fmt.Fprintf(&b, `rule containers_%d on doc where doc.kind == "Deployment" {
  for c in containers(doc) {
    require c?.name != "unwanted-%d" else "container ${c.name as (string)}"
    advise (c?.ports ?? []) == [] or list.all(c.ports as ([any]), fn(p) = p?.containerPort != %d) else "port"
  }
}
`, i, i, i)
		case 2:
			fmt.Fprintf(&b, `rule labelled_%d on doc {
  let labels = doc?.metadata?.labels ?? {}
  require record.length(labels) < %d else "too many labels"
}
`, i, 40+i)
		case 3:
			fmt.Fprintf(&b, `rule ports_%d on doc where doc.kind == "Service" {
  for p in doc.spec.ports { require p?.port != %d else "port ${p.port as (int)}" }
}
`, i, 20+i)
		}
	}
	return b.String()
}

// rules measures holding rules beside evaluating what they are held over.
func rules() error {
	folder, err := os.MkdirTemp("", "rules-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	if err := writeFleet(folder, fleetServices); err != nil {
		return err
	}
	text, err := os.ReadFile(filepath.Join(folder, "knothole.toml"))
	if err != nil {
		return err
	}
	entries, shipped := string(text), 0
	for _, name := range standard.Names() {
		switch name {
		case "standard/pods":
			continue
		case "standard/labels":
			entries += "\n[[rules]]\nmodule = \"" + name + "\"\n" +
				"inputs = { required = { \"app.floodwatch.example/name\" = \"\" } }\n"
		default:
			entries += "\n[[rules]]\nmodule = \"" + name + "\"\n"
		}
		if broken := brokenRules[name]; broken != nil {
			entries += "without = [\"" + strings.Join(broken, "\", \"") + "\"]\n"
		}
		shipped += strings.Count(moduleText(name), "\nrule ") - len(brokenRules[name])
	}
	entries += "\n[[rules]]\nmodule = \"own.knot\"\n"
	for name, text := range map[string]string{"knothole.toml": entries, "own.knot": ownRules(ruleCount - shipped)} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	load := func() (*project.Project, error) {
		p, err := project.Load(os.DirFS(folder))
		if err == nil && p.Findings.HasErrors() {
			err = fmt.Errorf("the project has mistakes: %s", p.Findings[0].Message)
		}
		return p, err
	}
	documents, looked, found := 0, 0, 0
	var evaluating, holding timed
	evaluating.name, holding.name = "evaluate", fmt.Sprintf("hold %d rules", ruleCount)
	for round := range comparedRounds + 1 {
		p, err := load()
		if err != nil {
			return err
		}
		start := time.Now()
		results, findings := render.All(p, p.Concrete(), render.Options{})
		evaluated := time.Now()
		if findings.HasErrors() {
			return fmt.Errorf("the fleet does not render: %s", findings[0].Message)
		}
		held := rule.Hold(p, results, rule.Options{Today: start, Builtins: builtin.Table, Whole: true})
		done := time.Now()
		if round > 0 {
			evaluating.times = append(evaluating.times, evaluated.Sub(start))
			holding.times = append(holding.times, done.Sub(evaluated))
		}
		documents, looked, found = 0, 0, len(held.Findings)
		for _, r := range results {
			documents += len(r.Documents)
		}
		for _, r := range held.Rules {
			if r.Failed {
				return fmt.Errorf("the rule %s failed", r.Object.Name)
			}
			for _, n := range r.Looked {
				looked += n
			}
		}
		if len(held.Rules) != ruleCount {
			return fmt.Errorf("%d rules are held, not %d", len(held.Rules), ruleCount)
		}
	}
	fmt.Printf("\nholding %d rules over %d documents in %d environments: %d looks, %d findings; median of %d\n",
		ruleCount, documents, len(fleetEnvironments), looked, found, comparedRounds)
	evaluating.print(nil)
	holding.print(&evaluating)
	return nil
}

func moduleText(name string) string {
	text, _ := standard.Read(name)
	return string(text)
}
