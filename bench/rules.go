package main

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"knothole/core/builtin"
	"knothole/core/parallel"
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

// ownRules are rules as teams write them: most on workloads, some on services, a few on all objects and on all
// documents together.
func ownRules(n int) string {
	var b strings.Builder
	b.WriteString("fn containers(doc: any) -> [any] = doc?.spec?.template?.spec?.containers ?? []\n")
	for i := range n {
		switch i % 10 {
		case 0, 1, 2:
			fmt.Fprintf(&b, `rule containers_%d on doc where doc.kind == "Deployment" {
  for c in containers(doc) {
    require c?.name != "unwanted-%d" else "container ${c.name as (string)}"
    advise (c?.ports ?? []) == [] or list.all(c.ports as ([any]), fn(p) = p?.containerPort != %d) else "port"
  }
}
`, i, i, i)
		case 3, 4:
			fmt.Fprintf(&b, `rule images_%d on doc where doc.kind in ["Deployment", "CronJob"] {
  for c in containers(doc) {
    require c.image as (string) matches '^[a-z0-9./-]{%d,80}:[0-9.]+$' else "image ${c.image as (string)}"
  }
}
`, i, 1+i%3)
		case 5, 6:
			fmt.Fprintf(&b, `rule copies_%d on doc where doc.kind == "Deployment" {
  let copies = doc?.spec?.replicas ?? 1
  require copies <= %d and (doc?.spec?.selector?.matchLabels ?? {}) != {} else "copies"
}
`, i, 100+i)
		case 7, 8:
			fmt.Fprintf(&b, `rule ports_%d on doc where doc.kind == "Service" {
  for p in doc.spec.ports { require p?.port != %d else "port ${p.port as (int)}" }
}
`, i, 20+i)
		case 9:
			if i%20 == 9 {
				fmt.Fprintf(&b, `rule labelled_%d on doc {
  require record.length(doc?.metadata?.labels ?? {}) < %d else "too many labels"
}
`, i, 40+i)
			} else {
				fmt.Fprintf(&b, `rule few_%d on all documents {
  require list.length(documents) < %d else "too many"
}
`, i, 100_000+i)
			}
		}
	}
	return b.String()
}

// rules measures holding rules beside evaluating what they are held over: rules as teams write them, and those that
// come with the program.
func rules() error {
	if err := holdRules("own", "\n[[rules]]\nmodule = \"own.knot\"\n", ruleCount); err != nil {
		return err
	}
	entries, shipped := "", 0
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
	return holdRules("of the program", entries, shipped)
}

// holdRules measures holding so many rules, which entries of the project file put in force.
func holdRules(title, entries string, count int) error {
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
	for name, text := range map[string]string{"knothole.toml": string(text) + entries, "own.knot": ownRules(count)} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	load := func() (*project.Project, error) {
		p, err := project.Load(os.DirFS(folder))
		if err == nil && p.Findings.HasErrors() {
			err = fmt.Errorf("the project has errors: %s", p.Findings[0].Message)
		}
		return p, err
	}
	documents, looked, found := 0, 0, 0
	var evaluating, holding timed
	evaluating.name, holding.name = "evaluate", fmt.Sprintf("hold %d rules, %s", count, title)
	for round := range comparedRounds + 1 {
		p, err := load()
		if err != nil {
			return err
		}
		start := time.Now()
		results, findings, _ := render.All(p, p.Runs(p.Concrete()), render.Options{})
		evaluated := time.Now()
		if findings.HasErrors() {
			return fmt.Errorf("the fleet does not render: %s", findings[0].Message)
		}
		report := render.NewReport(p)
		checking := rule.Begin(p, rule.Options{Today: start, Builtins: builtin.Table, Whole: true}, report)
		var group parallel.Group
		group.SetLimit(runtime.GOMAXPROCS(0))
		for _, r := range results {
			group.Go(func() error {
				checking.Look(r)
				return nil
			})
		}
		_ = group.Wait()
		for _, r := range results {
			checking.Take(r)
		}
		checked := checking.Finish()
		done := time.Now()
		if round > 0 {
			evaluating.times = append(evaluating.times, evaluated.Sub(start))
			holding.times = append(holding.times, done.Sub(evaluated))
		}
		documents, looked, found = 0, 0, len(report.Findings())
		for _, r := range results {
			documents += len(r.Documents)
		}
		for _, r := range checked.Rules {
			if r.Failed {
				return fmt.Errorf("the rule %s failed", r.Object.Name)
			}
			for _, n := range r.Looked {
				looked += n
			}
		}
		if len(checked.Rules) != count {
			return fmt.Errorf("%d rules are held, not %d", len(checked.Rules), count)
		}
	}
	fmt.Printf("\nholding %d rules over %d documents in %d environments: %d looks, %d findings; median of %d\n",
		count, documents, len(fleetEnvironments), looked, found, comparedRounds)
	evaluating.print(nil)
	holding.print(&evaluating)
	return nil
}

func moduleText(name string) string {
	text, _ := standard.Read(name)
	return string(text)
}
