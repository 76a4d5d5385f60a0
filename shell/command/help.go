package command

import (
	"flag"
	"fmt"
	"io"
	"runtime/debug"
	"slices"
	"strings"

	"knothole/core/builtin"
	"knothole/core/rule"
	"knothole/core/source"
	"knothole/shell/present"
)

// Version is the version of the program.
const Version = "0.1.0"

var versionCommand = &command{
	name:  "version",
	short: "the version of the program",
	long:  "Prints the version of the program, and of the Go that built it.",
	define: func(*flag.FlagSet) func(c *call) int {
		return func(c *call) int {
			if len(c.arguments) > 0 {
				return c.wrongUsage("it takes no arguments")
			}
			built := ""
			if info, ok := debug.ReadBuildInfo(); ok {
				built = " (" + info.GoVersion + ")"
			}
			fmt.Fprintf(c.out, "knothole %s%s\n", Version, built)
			return exitClean
		}
	},
	example: "knothole version",
}

var helpCommand = &command{
	name: "help", arguments: "[COMMAND | CODE | FUNCTION | GROUP | MODULE]",
	short: "help on a command, a code of a finding, or a built-in function",
	long: `Without an argument, lists the commands. With the name of a command, says what it does; with the code of a
finding, such as unknown-input, what it means, with an example that has the mistake and one that has not; with the
name of a built-in function or of a group of them, such as text.split, split or text, how it is called; with the name
of a module of rules that comes with the program, such as standard/images, what it holds and why. "help codes" lists all
codes, "help standard" all these modules.`,
	define: func(*flag.FlagSet) func(c *call) int {
		return runHelp
	},
	example: "knothole help text.split",
}

func runHelp(c *call) int {
	switch len(c.arguments) {
	case 0:
		fmt.Fprint(c.out, overview())
		return exitClean
	case 1:
	default:
		return c.wrongUsage("it takes one topic")
	}
	topic := c.arguments[0]
	if cmd := findCommand(topic); cmd != nil {
		fmt.Fprint(c.out, usage(cmd))
		return exitClean
	}
	if topic == "codes" {
		for _, code := range source.Codes() {
			page, _ := source.PageOf(code)
			sentence, _, _ := strings.Cut(strings.ReplaceAll(page.Text, "\n", " "), ". ")
			fmt.Fprintf(c.out, "%-22s %s\n", code, strings.TrimSuffix(sentence, "."))
		}
		return exitClean
	}
	if page, ok := source.PageOf(source.Code(topic)); ok {
		writePage(c.out, page)
		return exitClean
	}
	if topic == "standard" {
		writeLibrary(c.out)
		return exitClean
	}
	topics := append([]string(nil), builtin.Table.Groups()...)
	for _, m := range rule.Library() {
		topics = append(topics, m.Path)
		if m.Path == topic {
			writeModule(c.out, m)
			return exitClean
		}
	}
	found := false
	for _, f := range builtin.All() {
		name := f.Group + "." + f.Name()
		topics = append(topics, name)
		if topic == name || topic == f.Group {
			if found {
				fmt.Fprintln(c.out)
			}
			writeFunction(c.out, f)
			found = true
		}
	}
	if found {
		return exitClean
	}
	if named := builtin.Table.Named(topic); len(named) > 0 { // by its last part, or by another word for it
		for _, f := range builtin.All() {
			if !slices.Contains(named, f.Group+"."+f.Name()) {
				continue
			}
			if found {
				fmt.Fprintln(c.out)
			}
			writeFunction(c.out, f)
			found = true
		}
		return exitClean
	}
	for _, cmd := range commands {
		topics = append(topics, cmd.name)
	}
	for _, code := range source.Codes() {
		topics = append(topics, string(code))
	}
	if near, ok := source.Nearest(topic, topics); ok {
		return c.failed("there is no help on %q\n  did you mean: knothole help %s", topic, near)
	}
	return c.failed("there is no help on %q\n  commands: knothole help; codes: knothole help codes; groups of "+
		"functions: %s", topic, strings.Join(builtin.Table.Groups(), ", "))
}

// writeLibrary lists the modules of rules that come with the program.
func writeLibrary(out io.Writer) {
	fmt.Fprintln(out, "Modules of rules that come with the program. A project puts one in force in knothole.toml:\n\n"+
		"  [[rules]]\n  module = \"standard/images\"\n\nknothole help standard/images says what it holds and why.")
	fmt.Fprintln(out)
	for _, m := range rule.Library() {
		fmt.Fprintf(out, "%s\n  %s\n", m.Path, m.About)
		for _, r := range m.Rules {
			fmt.Fprintf(out, "    %s\n", r.Name)
		}
	}
}

// writeModule prints what a module of rules that comes with the program holds.
func writeModule(out io.Writer, m rule.LibraryModule) {
	fmt.Fprintf(out, "%s\n\n%s\n", m.Path, filled(m.About, ""))
	for _, list := range []struct {
		title string
		parts []rule.LibraryPart
	}{{"Inputs:", m.Inputs}, {"Rules:", m.Rules}, {"For other modules:", m.Functions}} {
		if len(list.parts) == 0 {
			continue
		}
		fmt.Fprintf(out, "\n%s\n", list.title)
		for _, p := range list.parts {
			switch list.title {
			case "Inputs:":
				fmt.Fprintf(out, "\n  %s: %s\n", p.Name, p.Text)
			case "Rules:":
				fmt.Fprintf(out, "\n  %s\n    looks at %s\n", p.Name, p.Text)
			default:
				fmt.Fprintf(out, "\n  %s\n", p.Text)
			}
			if p.About != "" {
				fmt.Fprintln(out, filled(p.About, "    "))
			}
		}
	}
}

// writePage prints what a code means, with its examples.
func writePage(out io.Writer, page *source.Page) {
	fmt.Fprintf(out, "%s\n\n%s\n", page.Code, filled(page.Text, ""))
	for _, example := range []struct {
		title string
		files []source.PageFile
	}{{"Wrong:", page.Wrong}, {"Right:", page.Right}} {
		if len(example.files) == 0 {
			continue
		}
		fmt.Fprintf(out, "\n%s\n", example.title)
		for _, f := range example.files {
			if len(example.files) > 1 {
				fmt.Fprintf(out, "\n  # %s\n", f.Name)
			}
			for line := range strings.Lines(f.Text) {
				if len(line) > 120 {
					line = line[:117] + "…\n"
				}
				fmt.Fprintf(out, "  %s", line)
			}
		}
	}
}

func writeFunction(out io.Writer, f *builtin.Function) {
	fmt.Fprintf(out, "%s.%s\n%s\n", f.Group, f.Signature, filled(f.Description, "  "))
	if f.Errors != "" {
		fmt.Fprintln(out, filled("Fails: "+f.Errors, "  "))
	}
	fmt.Fprintf(out, "  Example: %s is %s\n", f.Example, f.Result)
}

// helpWidth is how many columns help takes: those of a terminal that is not wide, and few enough to be read.
const helpWidth = 100

// filled returns paragraphs with lines of about the same length. Lines that are indented, such as examples, stay as
// they are.
func filled(text, indent string) string {
	var lines, words []string
	end := func() {
		if words != nil {
			lines = append(lines, indent+present.Fill(words, len(indent), helpWidth, indent))
			words = nil
		}
	}
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, " \n")
		if line != "" && line[0] != ' ' {
			words = append(words, strings.Fields(line)...)
			continue
		}
		end()
		lines = append(lines, line)
	}
	end()
	return strings.Join(lines, "\n")
}

// overview lists the commands.
func overview() string {
	var b strings.Builder
	b.WriteString("knothole evaluates typed configuration to plain data, for every environment, and shows what " +
		"differs and why.\n\nusage: knothole COMMAND [flags] [arguments]\n\n")
	for _, c := range commands {
		fmt.Fprintf(&b, "  %-9s %s\n", c.name, c.short)
	}
	b.WriteString("\nknothole help COMMAND says more. Begin with: knothole demo\n")
	return b.String()
}

// usage is the help of one command.
func usage(cmd *command) string {
	var b strings.Builder
	fmt.Fprintf(&b, "usage: knothole %s\n\n%s\n\nexample: %s\n\nflags:\n",
		strings.TrimSpace(cmd.name+" "+cmd.arguments), filled(cmd.long, ""), cmd.example)
	flags := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	flags.String("project", "",
		"the folder of the project `DIR` (default: the nearest one upwards with a knothole.toml)")
	flags.String("color", colorAuto, colorHelp)
	flags.Bool("quiet", false, "no summary")
	cmd.define(flags)
	var names, texts []string
	width := 0
	flags.VisitAll(func(f *flag.Flag) {
		name, text := flag.UnquoteUsage(f)
		names, texts = append(names, strings.TrimSpace("  --"+f.Name+" "+name)), append(texts, text)
		width = max(width, len(names[len(names)-1]))
	})
	indent := strings.Repeat(" ", width+4)
	for i, text := range texts {
		fmt.Fprintf(&b, "  %-*s  %s\n", width, names[i], strings.TrimPrefix(filled(text, indent), indent))
	}
	return b.String()
}
