package command

import (
	"bufio"
	"flag"
	"fmt"
	"io"
	"maps"
	"math"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"knothole/core/builtin"
	"knothole/core/check"
	"knothole/core/compare"
	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/verify"
	"knothole/outside/gate"
	"knothole/shell/present"
)

var inputsCommand = &command{
	name: "inputs", arguments: "[ENV|MODULE] [INPUT…] [--blank] [--format]",
	short: "list inputs, their value in each environment, and where it comes from",
	long: `Shows the inputs of the project in a table: type, default, and for each environment the value with a
letter for the layer that gives it, also what was overridden (b>a) or repeated (b=a). With the name of an environment
it shows each input with its description, its limits and the whole way to its value; with the path of a module it
shows what that declares.

--blank prints a layer to fill in: what needs a value first, then, as comments, what has a default. JSON has no
comments, so there it holds only what must be decided. Secrets must not be stored in layers and are left out.`,
	example: "knothole inputs",
	define: func(flags *flag.FlagSet) func(c *call) int {
		i := &inputsRun{}
		flags.Var(&choice{&i.blank, []string{"yaml", "json", "toml"}}, "blank",
			"print a layer to fill in, in the format `yaml`, json or toml")
		chooseFormat(flags, &i.format, "text", "json")
		i.given.define(flags)
		return i.run
	},
}

type inputsRun struct {
	given
	blank, format string
}

func (i *inputsRun) run(c *call) int {
	wanted, status := i.names(c)
	if status != exitClean {
		return status
	}
	if len(c.arguments) > 1 {
		return c.wrongUsage("name one environment or one module")
	}
	p, runs, modules, status := c.openModules()
	if p == nil {
		return status
	}
	if p.Unit().Module == nil {
		return c.stopped(p, p.Findings, "no input can be shown")
	}
	if status := i.apply(c, p, runs); status != exitClean {
		return status
	}
	module := p.Unit().Module
	if modules != nil {
		if len(modules) != 1 {
			return c.wrongUsage("name one module, not a directory of %d", len(modules))
		}
		runs = nil
		for _, m := range p.Modules() {
			if m.Path == modules[0] {
				module = m
			}
		}
	}
	if modules == nil && len(c.arguments) == 1 {
		module = runs[0].Unit.Module
	}
	if i.blank != "" {
		var run *project.Run
		if len(c.arguments) == 1 && len(runs) == 1 {
			run = runs[0]
		}
		shown := collectInputs(p.Project, module, nil, 0)
		shown.Only(wanted.matches)
		text := project.Blank(shown.Inputs, i.blank, run.Gives)
		_, _ = io.WriteString(c.data, text)
		if text == "" && run != nil && !c.quiet {
			fmt.Fprintf(c.err, "nothing is left to fill in: %s gives every input\n", run.Name)
		}
		return exitClean
	}
	presenter := c.presenter(p, c.answer(i.format))
	var all []*present.Inputs
	if modules != nil {
		all = append(all, collectInputs(p.Project, module, nil, 0))
	} else {
		all = collectByMain(p.Project, runs, wanted.opened())
	}
	count := 0
	for _, shown := range all {
		shown.Only(wanted.matches)
		count += len(shown.Inputs)
	}
	if count == 0 && len(wanted) > 0 {
		return c.failed("no input is called %s, or in it", strings.Join(wanted, " or "))
	}
	all = slices.DeleteFunc(all, func(shown *present.Inputs) bool { return len(shown.Inputs) == 0 && len(wanted) > 0 })
	if i.format == "json" {
		if err := presenter.InputsJSON(all); err != nil {
			return c.failed("%s", err)
		}
	}
	for n, shown := range all {
		switch {
		case i.format == "json":
			continue
		case len(all) > 1 && n > 0:
			fmt.Fprintf(c.out, "\n%s\n", shown.Module)
		case len(all) > 1:
			fmt.Fprintf(c.out, "%s\n", shown.Module)
		}
		switch {
		case len(shown.Inputs) == 0:
			fmt.Fprintf(c.out, "%s has no inputs\n", shown.Module)
		case len(c.arguments) == 1 || len(wanted) > 0:
			presenter.InputsDetail(shown)
		default:
			presenter.InputsTable(shown)
		}
	}
	status = exitClean
	if modules == nil {
		_, findings, err := render.All(p.Project, runs, render.Options{})
		if err != nil {
			return c.interrupted(err)
		}
		if errors, _ := findings.Count(); errors > 0 {
			fmt.Fprintf(c.err, "%s; run knothole check for details\n", source.Count(errors, "error"))
			status = exitFindings
		}
	}
	return status
}

// inputNames are names of inputs, or patterns of them, that are asked for.
type inputNames []string

// matches reports whether an input is asked for: by its name, by that of what it is in, or by a pattern.
func (n inputNames) matches(name string) bool {
	return len(n) == 0 || slices.ContainsFunc(n, func(asked string) bool {
		return asked == name || strings.HasPrefix(name, asked+".") || place.Match(asked, name)
	})
}

// openedEntries is how many entries of a map are inputs of their own where no input is asked for by name.
const openedEntries = 30

// opened is how many entries of a map are inputs of their own.
func (n inputNames) opened() int {
	if len(n) > 0 {
		return math.MaxInt
	}
	return openedEntries
}

// names takes the names of inputs out of the arguments: those that name no environment and no module.
func (i *inputsRun) names(c *call) (names inputNames, status int) {
	if len(c.arguments) == 0 {
		return nil, exitClean
	}
	p, status := c.open()
	if p == nil {
		return nil, status
	}
	var known []string
	for _, e := range p.Environments {
		for _, o := range e.Unit.Inputs() {
			known = append(known, o.Name)
		}
	}
	var others []string
	for n, argument := range c.arguments {
		first, _, _ := strings.Cut(argument, ".")
		exists, _, err := gate.Exists(c.path(argument))
		switch {
		case p.Environment(argument) != nil || strings.Contains(argument, "/") || strings.HasSuffix(argument,
			".knot") ||
			exists && err == nil:
			others = append(others, argument)
		case slices.Contains(known, first) || strings.Contains(argument, "*"):
			names = append(names, argument)
		case n > 0 || len(p.Environments) == 0:
			return nil, c.failed("%s has no input %q\n  %s", p.Unit().Main, argument,
				source.Suggest(argument, known, "its inputs are "+strings.Join(known, ", ")))
		default:
			if near, ok := source.Nearest(argument, known); ok {
				return nil, c.failed("there is no environment or input %q\n  %s", argument, source.DidYouMean(near))
			}
			others = append(others, argument) // which is said of environments
		}
	}
	c.arguments = others
	return names, exitClean
}

// collectByMain gathers what is to be shown of the inputs of environments, together for those with one main module.
func collectByMain(p *project.Project, runs []*project.Run, most int) (all []*present.Inputs) {
	var units []*project.Unit
	of := map[*project.Unit][]*project.Run{}
	for _, r := range runs {
		if of[r.Unit] == nil {
			units = append(units, r.Unit)
		}
		of[r.Unit] = append(of[r.Unit], r)
	}
	if units == nil {
		units = append(units, p.Unit())
	}
	for _, u := range units {
		if u.Module != nil {
			all = append(all, collectInputs(p, u.Module, of[u], most))
		}
	}
	return all
}

// collectInputs gathers what is to be shown of the inputs of a module.
// Of a map with more entries than so many, the whole is one input.
func collectInputs(p *project.Project, m *check.Module, runs []*project.Run, most int) *present.Inputs {
	runs = slices.DeleteFunc(slices.Clone(runs),
		func(r *project.Run) bool { return r.Unit.Module != m }) // which have another main module
	shown := &present.Inputs{Module: m.Path, Runs: runs, Meaning: p.Meaning}
	worlds := make([]*eval.World, len(runs))
	for i, r := range runs {
		worlds[i] = r.World(false)
	}
	shown.Inputs = p.Opened(p.InputsOf(m), runs, worlds, most)
	for _, in := range shown.Inputs {
		var all []project.Settings
		for i, r := range runs {
			all = append(all, r.Settings(worlds[i], in))
		}
		shown.Settings = append(shown.Settings, all)
	}
	return shown
}

var setCommand = &command{
	name: "set", arguments: "ENV… NAME=VALUE… | ENV --from ENV NAME… | ENV --unset NAME… [--in FILE] [--fill]",
	short: "change values in the right layer, comments kept",
	long: `Changes the value of inputs in the layer of an environment: the one that gives the input its value now, if
no other environment shares it, else the last that is the environment's own. Comments, order and the way strings are
quoted stay as they are. NAME may be a field of an input, such as replicas.bay_map; VALUE is read as the type of the
input. Several environments get the same values in one step, which environments with parity need; a layer that only
these environments share is changed for all of them.

With --from the values are those of another environment: what this changes in the rendering is shown, and written after
a yes; --yes gives it beforehand. --unset takes values out, so that what a weaker layer says holds, or the default.

A value that does not fit the type of the input or its limits, or with which anything is wrong in an environment
that was not before, such as a violation of a require or a rule, is refused, and nothing is written.
--in chooses the layer. --fill adds the optional inputs that the environment does not give, as comments with their
default, to the end of a YAML or TOML layer.`,
	example: "knothole set north replicas.bay_map=8",
	rules:   true,
	define: func(flags *flag.FlagSet) func(c *call) int {
		in := flags.String("in", "", "change the layer `FILE`")
		complete := flags.Bool("fill", false, "add what is optional and not there as comments")
		from := flags.String("from", "", "take the values over from the environment `ENV`")
		yes := flags.Bool("yes", false, "with --from: write without asking")
		unset := flags.Bool("unset", false, "take the values out of the layer")
		return func(c *call) int { return runSet(c, setting{*in, *from, *complete, *yes, *unset}) }
	},
}

// setting is how values are set.
type setting struct {
	in, from      string
	complete, yes bool
	unset         bool
}

func runSet(c *call, s setting) int {
	in, complete := s.in, s.complete
	if len(c.arguments) < 2 && !(complete && len(c.arguments) == 1) {
		return c.wrongUsage("name an environment and at least one NAME=VALUE")
	}
	if s.yes && s.from == "" {
		return c.wrongUsage("--yes goes with --from")
	}
	if s.unset && s.from != "" {
		return c.wrongUsage("--unset takes values out, and --from puts others in: give one of the two")
	}
	name, changes := c.arguments[0], c.arguments[1:]
	unlock, status := c.lockProject()
	if status != exitClean {
		return status
	}
	defer unlock()
	p, status := c.open()
	if p == nil {
		return status
	}
	e := p.Environment(name)
	if e == nil {
		if _, ok := c.environments(p, []string{name}); !ok {
			return exitFailed
		}
	}
	if e.Unit.Module == nil {
		return c.stopped(p, p.Findings, "nothing was written")
	}
	if in != "" {
		in = p.shown(c, in)
	}
	editor := p.Edit(e, in)
	if status := s.take(c, p, editor, changes); status != exitClean {
		return status
	}
	if s.from != "" || s.unset {
		changes = nil
	}
	var others []*project.Environment
	for len(changes) > 0 && p.Environment(changes[0]) != nil {
		others, changes = append(others, p.Environment(changes[0])), changes[1:]
	}
	if len(others) > 0 && (complete || len(changes) == 0) {
		return c.wrongUsage("several environments need at least one NAME=VALUE, and no --fill")
	}
	all := append([]*project.Environment{e}, others...)
	if err := editor.Among(all); err != nil {
		return c.failed("%s\n  nothing was written", err)
	}
	for _, e := range all {
		editor.For(e)
		for _, change := range changes {
			name, text, ok := strings.Cut(change, "=")
			if !ok || name == "" {
				return c.wrongUsage("%q is not NAME=VALUE, nor an environment", change)
			}
			if err := editor.Set(name, text); err != nil {
				return c.failed("%s\n  nothing was written", err)
			}
		}
	}
	if complete {
		if err := editor.Complete(); err != nil {
			return c.failed("%s\n  nothing was written", err)
		}
	}
	files, wrong, err := editor.Result()
	if err != nil {
		return c.failed("the project cannot be read again: %s\n  nothing was written", plainError(err))
	}
	if len(wrong) > 0 {
		c.presenter(&opened{editor.Edited(), p.folder, p.prefix}, c.err).Findings(wrong)
		fmt.Fprintln(c.err, "\nnothing was written")
		return exitFindings
	}
	broken, err := newlyBroken(editor, files)
	if err != nil {
		return c.interrupted(err)
	}
	if len(broken) > 0 {
		c.presenter(&opened{editor.Edited(), p.folder, p.prefix}, c.err).Findings(broken)
		fmt.Fprintln(c.err, "\nnothing was written")
		if slices.ContainsFunc(broken, func(f source.Finding) bool { return f.Code == source.Parity }) {
			fmt.Fprintln(c.err, "  to change environments with parity, name them all: knothole set ENV… NAME=VALUE…")
		}
		return exitFindings
	}
	overridden := editor.Overridden()
	for _, o := range overridden {
		by := editor.Edited().Sources.Locate(o.By)
		fmt.Fprintf(c.err, "note: in %s, %s:%d still overrides the value of %s in %s\n", o.Environment,
			c.relative(filepath.Join(p.folder, filepath.FromSlash(by.File.Path))), by.Line, o.Name, o.Layer)
	}
	if len(overridden) > 0 && in == "" {
		fmt.Fprintf(c.err, "nothing was written: change it there, or list %s after that layer in %s\n",
			overridden[0].Layer, project.FileName)
		return exitFindings
	}
	if missing := editor.Missing(); s.unset && len(missing) > 0 {
		for _, m := range missing {
			c.failed("%s must have a value in %s, and nothing else gives it one", m.Name, m.Environment)
		}
		fmt.Fprintln(c.err, "nothing was written")
		return exitFindings
	}
	if s.from != "" {
		if status := s.agreed(c, p, editor, e, files); status != exitClean {
			return status
		}
	}
	status = c.replace(p, editor, files)
	if status == exitClean {
		presenter := c.presenter(&opened{editor.Edited(), p.folder, p.prefix}, c.out)
		for _, u := range editor.Unsets() {
			presenter.HoldsNow(e.Name, u)
		}
	}
	return status
}

// newlyBroken returns the errors that there are with the changes of an editor, and were not without them: limits of
// components, requirements, schemas, rules, and what cannot be computed, in the environments that have a changed layer
// and in those that read their outputs; and differences that parity does not allow. The error is that of the context.
func newlyBroken(editor *project.Editor, files map[string]string) (source.Findings, error) {
	broken := func(p *project.Project) (source.Findings, error) {
		var changed []*project.Environment
		for _, e := range p.Concrete() {
			if slices.ContainsFunc(p.Run(e).AllLayers(), func(l *project.Layer) bool { _, is := files[l.Path]; return is }) {
				changed = append(changed, e)
			}
		}
		concerned := slices.Clone(changed)
		for _, e := range p.Concrete() {
			if !slices.Contains(changed, e) &&
				slices.ContainsFunc(changed, func(other *project.Environment) bool { return other.FeedsInto(e) }) {
				concerned = append(concerned, e)
			}
		}
		found, err := verify.Project(p, p.Runs(concerned), verify.Options{
			Options: render.Options{Everything: true, Validate: true}, Rules: true, Parity: true, Builtins: builtin.Table,
			Today: time.Now()}, nil)
		if err != nil {
			return nil, err
		}
		return slices.DeleteFunc(found.Findings(), func(f source.Finding) bool {
			return f.Severity != source.Error || f.Code == source.MissingInput // which is reported of each environment
		}), nil
	}
	now, err := broken(editor.Edited())
	if err != nil || len(now) == 0 {
		return nil, err
	}
	before, err := broken(editor.Project())
	return slices.DeleteFunc(now, func(f source.Finding) bool {
		return slices.ContainsFunc(before, func(was source.Finding) bool {
			return was.Code == f.Code && was.Message == f.Message && slices.Equal(was.Environments, f.Environments)
		})
	}), err
}

// take takes the values of inputs over from another environment, or out.
func (s setting) take(c *call, p *opened, editor *project.Editor, names []string) int {
	if s.unset {
		for _, name := range names {
			if strings.Contains(name, "=") {
				return c.wrongUsage("with --unset, inputs are named without a value, not %s", name)
			}
			if err := editor.Unset(name); err != nil {
				return c.failed("%s\n  nothing was written", err)
			}
		}
		return exitClean
	}
	if s.from == "" {
		return exitClean
	}
	from, ok := c.environments(p, []string{s.from})
	if !ok {
		return exitFailed
	}
	for _, name := range names {
		if strings.Contains(name, "=") {
			return c.wrongUsage("with --from, inputs are named without a value, not %s", name)
		}
		if err := editor.Take(name, from[0].Environment); err != nil {
			return c.failed("%s\n  nothing was written", err)
		}
	}
	return exitClean
}

// agreed shows what the rendering of an environment will be with the values, and asks whether they are to be written.
// Files that stay as they are need no answer.
func (s setting) agreed(
	c *call, p *opened, editor *project.Editor, e *project.Environment, files map[string]string,
) int {
	same := true
	for name, text := range files {
		same = same && text == editor.Before(name)
	}
	if same {
		return exitClean
	}
	now, then := &revision{"", p.Project}, &revision{"then", editor.Edited()}
	comparison, status := c.revisions(p, [2]*revision{now, then}, [2]string{e.Name, e.Name}, compare.Options{})
	if comparison == nil {
		return status
	}
	comparison.Sides = []string{e.Name + " now", "then"}
	c.presenter(p, c.out).Comparison(comparison, present.ComparisonOptions{})
	fmt.Fprintln(c.out)
	switch {
	case s.yes:
		return exitClean
	case !c.terminal:
		fmt.Fprintln(c.err, "nothing was written: --yes writes without asking")
		return exitFindings
	}
	fmt.Fprint(c.err, "write this? [y/N] ")
	answer, _ := bufio.NewReader(c.in).ReadString('\n')
	if strings.ToLower(strings.TrimSpace(answer)) != "y" {
		fmt.Fprintln(c.err, "nothing was written")
		return exitFindings
	}
	return exitClean
}

// replace writes files of the project that were edited, each whole or not at all, and says what it did.
func (c *call) replace(p *opened, editor *project.Editor, files map[string]string) int {
	root, err := c.disk.OpenRoot(p.folder)
	if err != nil {
		return c.failed("%s", plainError(err))
	}
	defer root.Close()
	c.writing.Store(true) // until all files are replaced
	for _, name := range slices.Sorted(maps.Keys(files)) {
		shown, before := c.relative(filepath.Join(p.folder, filepath.FromSlash(name))), editor.Before(name)
		if before == files[name] {
			fmt.Fprintf(c.out, "unchanged: %s already has this value\n", shown)
			continue
		}
		if err := root.Replace(name, []byte(before), []byte(files[name])); err != nil {
			return c.failed("%s: %s: it was not written", shown, plainError(err))
		}
		fmt.Fprint(c.out, unified(shown, shown, []byte(withoutHidden(editor.Project(), name, before)),
			[]byte(withoutHidden(editor.Edited(), name, files[name]))))
	}
	return exitClean
}

// withoutHidden returns a text of a project without the lines that are not to be shown.
func withoutHidden(p *project.Project, name, text string) string {
	file := p.Sources.Named(name)
	if file == nil {
		return text
	}
	var b strings.Builder
	number := 0
	for line := range strings.Lines(text) {
		if number++; file.Hidden(number) {
			line = "# this line may hold a secret and is not shown\n"
		}
		b.WriteString(line)
	}
	return b.String()
}

// lockProject makes other runs wait that change files of the project, until it is unlocked. When there is no project,
// there is nothing to lock: what opens it says so.
func (c *call) lockProject() (unlock func(), status int) {
	folder, ok := c.projectFolder()
	if exists, isFolder, err := gate.Exists(folder); !ok || err != nil || !exists || !isFolder {
		return func() {}, exitClean
	}
	unlock, err := gate.Lock(folder, 0o755,
		func() { fmt.Fprintf(c.err, "waiting for another run that changes %s\n", c.relative(folder)) })
	if err != nil {
		return nil, c.failed("%s: nothing was written", c.told(err))
	}
	return unlock, exitClean
}
