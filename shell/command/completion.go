package command

import (
	"embed"
	"flag"
	"fmt"
	"io"
	"slices"
	"strings"

	"knothole/core/builtin"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/standard"
	"knothole/core/value"
	"knothole/shell/present"
)

//go:embed completion
var completionScripts embed.FS

// shells are those that words can be completed in.
var shells = []string{"bash", "zsh", "fish"}

var completionCommand = &command{
	name: "completion", arguments: "bash|zsh|fish",
	short: "let a shell complete commands, flags, environments, documents and inputs",
	long: `Prints a script that lets a shell complete the words of knothole: commands and flags, and of the project that it
is in environments, documents, paths in them, inputs and outputs.

In bash, put this into ~/.bashrc:    source <(knothole completion bash)
In zsh, after compinit in ~/.zshrc:  source <(knothole completion zsh)
In fish, once:  knothole completion fish > ~/.config/fish/completions/knothole.fish

The script asks the program for the words: "knothole completion words WORD…" prints what the last of some words may
become, one for each line, with a description after a tab.`,
	example: "knothole completion bash",
	define: func(*flag.FlagSet) func(c *call) int {
		return func(c *call) int {
			if len(c.arguments) != 1 || !slices.Contains(shells, c.arguments[0]) {
				return c.wrongUsage("name a shell: bash, zsh or fish")
			}
			text, err := completionScripts.ReadFile("completion/knothole." + c.arguments[0])
			if err != nil {
				return c.failed("%s", err)
			}
			_, _ = c.data.Write(text)
			return exitClean
		}
	},
}

// filesToo is a line that tells the shell to complete the names of files as well.
const filesToo = ":files"

// completeWords prints what the last of some words may become. The words are what a person has typed after the name of
// the program, so they are no flags and arguments of this call. What is wrong with the project is not told here.
func completeWords(c *call, words []string) int {
	if len(words) == 0 {
		words = []string{""}
	}
	w := &wording{call: c, last: words[len(words)-1], before: words[:len(words)-1]}
	w.complete()
	return exitClean
}

// wording is words that are being typed.
type wording struct {
	*call
	last   string   // the current word
	before []string // the words before it
	opened *opened
	tried  bool
}

// offer prints a word, if the current one may become it.
func (w *wording) offer(word, about string) {
	if !strings.HasPrefix(word, w.last) || strings.ContainsAny(word, "\n\t") {
		return
	}
	if about != "" {
		word += "\t" + strings.Join(strings.Fields(present.Clean(about)), " ")
	}
	fmt.Fprintln(w.data, word)
}

func (w *wording) complete() {
	if len(w.before) == 0 {
		for _, cmd := range commands {
			w.offer(cmd.name, cmd.short)
		}
		return
	}
	cmd := findCommand(w.before[0])
	if cmd == nil {
		return
	}
	flags := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	w.defineCommon(flags)
	cmd.define(flags)
	var arguments []string
	var open *flag.Flag // the one whose value is in hand
	for _, word := range w.before[1:] {
		name := strings.TrimLeft(word, "-")
		switch {
		case open != nil:
			w.note(open.Name, word)
			open = nil
		case strings.HasPrefix(word, "-") && strings.Contains(word, "="):
			name, given, _ := strings.Cut(name, "=")
			w.note(name, given)
		case strings.HasPrefix(word, "-"):
			if f := flags.Lookup(name); f != nil && !isSwitch(f) {
				open = f
			}
		default:
			arguments = append(arguments, word)
		}
	}
	switch {
	case open != nil:
		w.flagValue(cmd, open)
	case strings.HasPrefix(w.last, "-"):
		flags.VisitAll(func(f *flag.Flag) {
			_, text := flag.UnquoteUsage(f)
			w.offer("--"+f.Name, text)
		})
	default:
		w.argument(cmd, arguments)
	}
}

// isSwitch reports whether a flag takes no value.
func isSwitch(f *flag.Flag) bool {
	b, ok := f.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}

// note keeps what flags say about where the project is.
func (w *wording) note(name, given string) {
	if name == "project" {
		w.project = given
	}
}

// valueKind says what the value of a flag is, where it is not one of some words.
type valueKind uint8

// The kinds of values that are completed; anyText is not.
const (
	anyText valueKind = iota + 1
	anEnvironment
	aLayer
	anInput
	someRules
	someDocuments
	aFile
)

// valueKinds are the kinds of the values of all flags that take a value and have no words to choose from. A test
// fails until a new flag is here.
var valueKinds = map[string]valueKind{
	"like": anEnvironment, "from": anEnvironment, "environment": anyText, "base": anyText, "in": aLayer,
	"input": anInput, "rules": someRules, "only": someDocuments, "to": aFile, "layer": aFile, "later": aFile,
	"identity": aFile, "secret-policy": aFile, "project": aFile, "schema": aFile, "catalogue": aFile, "type": anyText,
	"ignore": anyText, "owner": anyText, "today": anyText, "depth": anyText, "namespace": anyText,
}

// flagValue offers values of a flag.
func (w *wording) flagValue(cmd *command, f *flag.Flag) {
	for _, word := range choicesOf(f) {
		w.offer(word, "")
	}
	switch valueKinds[f.Name] {
	case anEnvironment:
		w.environments()
	case aLayer:
		w.layers()
	case anInput:
		w.inputs("=")
	case someRules:
		for _, name := range standard.Names() {
			w.offer(name, "")
		}
		fmt.Fprintln(w.data, filesToo)
	case someDocuments:
		if cmd.name != "test" { // where they are titles
			w.documents(w.read(nil))
		}
	case aFile:
		fmt.Fprintln(w.data, filesToo)
	}
}

// argument offers arguments of a command, after some.
func (w *wording) argument(cmd *command, before []string) {
	files := func() { fmt.Fprintln(w.data, filesToo) }
	first := ""
	if len(before) > 0 {
		first = before[0]
	}
	switch cmd.name {
	case "check", "diff":
		w.environments()
		files()
	case "render", "report":
		w.environments()
	case "fmt", "test", "validate", "new", "demo":
		files()
	case "look":
		if first != "" {
			w.environments()
			files()
		}
	case "inputs":
		if first == "" {
			w.environments()
		}
		w.inputs("")
	case "set":
		if first == "" {
			w.environments()
			return
		}
		end := "="
		if slices.ContainsFunc(w.before, func(word string) bool { return word == "--unset" || word == "--from" }) {
			end = ""
		}
		w.inputs(end)
	case "outputs":
		if first == "" {
			w.environments()
			return
		}
		w.outputs(first)
	case "why":
		switch len(before) {
		case 0:
			w.environments()
		case 1:
			w.documents(w.read([]string{first}))
		case 2:
			w.places(first, before[1])
		}
	case "drift":
		if first == "" {
			w.environments()
			return
		}
		files()
	case "rules":
		if p := w.opens(); p != nil {
			for _, m := range p.Modules() {
				for _, o := range m.Rules() {
					w.offer(o.Name, o.Description())
				}
			}
		}
	case "schema":
		if first == "" {
			for _, word := range []string{"list", "show", "example", "extract", "add", "export"} {
				w.offer(word, "")
			}
			return
		}
		files()
	case "completion":
		for _, shell := range shells {
			w.offer(shell, "")
		}
	case "help":
		for _, cmd := range commands {
			w.offer(cmd.name, cmd.short)
		}
		for _, topic := range manualTopics() {
			w.offer(topic, "")
		}
		for _, f := range builtin.All() {
			w.offer(f.Group+"."+f.Name(), f.Description)
		}
		for _, code := range source.Codes() {
			w.offer(string(code), "")
		}
	}
}

// opens opens the project that the words are about, nil when there is none.
func (w *wording) opens() *opened {
	if !w.tried {
		w.tried = true
		quiet := *w.call
		quiet.command, quiet.err = w.call.command, io.Discard
		w.opened, _ = quiet.open()
	}
	return w.opened
}

func (w *wording) environments() {
	if p := w.opens(); p != nil {
		for _, e := range p.Concrete() {
			w.offer(e.Name, strings.Join(e.Tags, ", "))
		}
	}
}

func (w *wording) layers() {
	p := w.opens()
	if p == nil {
		return
	}
	var names []string
	for _, e := range p.Environments {
		for _, l := range e.Layers {
			if l.Into == "" && !slices.Contains(names, l.Path) {
				names = append(names, l.Path)
				w.offer(l.Path, "")
			}
		}
	}
}

// inputs offers the names of inputs of all main modules, with an end.
func (w *wording) inputs(end string) {
	p := w.opens()
	if p == nil {
		return
	}
	for _, u := range p.Units {
		if u.Module == nil {
			continue
		}
		for _, in := range p.InputsOf(u.Module) {
			w.offer(in.Name()+end, in.Description)
		}
	}
}

func (w *wording) outputs(environment string) {
	p := w.opens()
	if p == nil {
		return
	}
	e := p.Environment(environment)
	if e == nil || e.Unit.Module == nil {
		return
	}
	for _, o := range project.OutputsOf(e.Unit.Module) {
		w.offer(o.Name, o.Description())
	}
}

// read renders environments, all when none is named.
func (w *wording) read(names []string) []*render.Result {
	p := w.opens()
	if p == nil || p.Findings.HasErrors() {
		return nil
	}
	runs := p.Runs(p.Concrete())
	if names != nil {
		if runs = nil; p.RunNamed(names[0]) != nil {
			runs = []*project.Run{p.RunNamed(names[0])}
		}
	}
	results, _, _ := render.All(p.Project, runs, render.Options{})
	return results
}

func (w *wording) documents(results []*render.Result) {
	seen := map[string]bool{}
	for _, r := range results {
		for _, d := range r.Documents {
			if !seen[d.Path] {
				seen[d.Path] = true
				w.offer(d.Path, "")
			}
		}
	}
}

// places offers the places in a document that have values.
func (w *wording) places(environment, document string) {
	for _, r := range w.read([]string{environment}) {
		for _, d := range r.Documents {
			if d.Path == document {
				w.within(d.Value, nil)
			}
		}
	}
}

// within offers the places in a value to which the current word leads, one step further.
func (w *wording) within(v value.Value, path *place.Path) {
	step := func(x value.Value, at *place.Path) {
		text := at.String()
		switch {
		case !strings.HasPrefix(w.last, text) || w.last == text && x.Kind() != value.Record && x.Kind() != value.List:
			w.offer(text, "")
		default:
			w.within(x, at)
		}
	}
	if v.Kind() == value.List {
		for i, x := range v.Elements() {
			step(x, path.Index(i))
		}
		return
	}
	for i, key := range v.Shape().Keys() {
		step(v.Values()[i], path.Field(key))
	}
}
