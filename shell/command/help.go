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
	"knothole/docs"
	"knothole/shell/present"
)

// Version is the version of the program.
const Version = "0.1.0"

var versionCommand = &command{
	name:  "version",
	short: "print the version of the program",
	long:  "Prints the version of the program, and of the Go that built it.",
	define: func(flags *flag.FlagSet) func(c *call) int {
		format := new(string)
		choose(flags, format, "format", "output `FORMAT`", "text", "json")
		return func(c *call) int {
			if len(c.arguments) > 0 {
				return c.wrongUsage("it takes no arguments")
			}
			built := ""
			if info, ok := debug.ReadBuildInfo(); ok {
				built = info.GoVersion
			}
			if *format == "json" {
				_ = present.JSON(c.data, map[string]string{"version": Version, "go": built})
				return exitClean
			}
			if built != "" {
				built = " (" + built + ")"
			}
			fmt.Fprintf(c.out, "knothole %s%s\n", Version, built)
			return exitClean
		}
	},
	example: "knothole version",
}

var helpCommand = &command{
	name: "help", arguments: "[COMMAND | CODE | FUNCTION | MODULE | WORD | PAGE]",
	short: "help with a command, a word of the language, a function or a code; the manual",
	long: `Without an argument, lists the commands. With the name of a command, says what it does; with the code of a
finding, such as unknown-input, what it means, with an example that has the error and one that has not; with the
name of a built-in function or of a group of them, such as text.split, split or text, how it is called; with the name
of a module of rules that comes with the program, such as standard/images, what it checks and why; with a word of the
language or of the project file, such as patch, where or layers, the section of the manual; with the name of a page of
the manual, such as language, that page. "help codes" lists all codes, "help standard" all these modules, "help manual"
the pages.`,
	define: func(*flag.FlagSet) func(c *call) int {
		return runHelp
	},
	example: "knothole help text.split",
}

func runHelp(c *call) int {
	switch len(c.arguments) {
	case 0:
		fmt.Fprint(c.out, overview(c.helpWidth()))
		return exitClean
	case 1:
	default:
		return c.wrongUsage("it takes one topic")
	}
	topic := c.arguments[0]
	if cmd := findCommand(topic); cmd != nil {
		fmt.Fprint(c.out, usage(cmd, c.helpWidth()))
		if !slices.Contains(builtin.Table.Groups(), topic) {
			return exitClean
		}
		fmt.Fprintf(c.out, "\nand the functions of the group %s:\n\n", topic)
	}
	if topic == "codes" {
		for _, code := range source.Codes() {
			page, _ := source.PageOf(code)
			sentence, _, _ := strings.Cut(strings.ReplaceAll(page.Text, "\n", " "), ". ")
			c.listed(string(code), 23, strings.TrimSuffix(sentence, "."))
		}
		return exitClean
	}
	code := source.Code(topic)
	if new, is := source.Renamed(code); is {
		fmt.Fprintf(c.err, "%s is now %s\n", code, new)
		code = new
	}
	if page, ok := source.PageOf(code); ok {
		writePage(c.out, page, c.helpWidth())
		return exitClean
	}
	if topic == "manual" {
		for _, page := range docs.Pages() {
			c.listed(page.Name, 17, page.Title)
		}
		return exitClean
	}
	if topic == "standard" {
		writeLibrary(c.out, c.helpWidth())
		return exitClean
	}
	topics := append(manualTopics(), builtin.Table.Groups()...)
	for _, m := range rule.Library() {
		topics = append(topics, m.Path)
		if m.Path == topic {
			writeModule(c.out, m, c.helpWidth())
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
			writeFunction(c.out, f, c.helpWidth())
			found = true
		}
	}
	if found {
		return exitClean
	}
	if sections := manual(topic); sections != nil {
		c.writeManual(sections)
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
			writeFunction(c.out, f, c.helpWidth())
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
	return c.failed("there is no help on %q\n  commands: knothole help; pages: knothole help manual; codes: "+
		"knothole help codes; "+
		"groups of functions: %s", topic, strings.Join(builtin.Table.Groups(), ", "))
}

// listed prints an entry of a list: its name, and in a column what it is. That is one line for programs, such as
// searches; on a terminal it is filled.
func (c *call) listed(name string, column int, text string) {
	if c.terminal {
		text = present.Fill(strings.Fields(text), column, c.helpWidth(), strings.Repeat(" ", column))
	}
	fmt.Fprintf(c.out, "%-*s%s\n", column, name, text)
}

// writeLibrary lists the modules of rules that come with the program.
func writeLibrary(out io.Writer, width int) {
	fmt.Fprintln(out, filled("Modules of rules that come with the program. A project puts one in force in "+
		"knothole.toml:\n\n  [[rules]]\n  module = \"standard/images\"\n\nknothole help standard/images says what "+
		"it checks and why.", "", width))
	fmt.Fprintln(out)
	for _, m := range rule.Library() {
		fmt.Fprintf(out, "%s\n%s\n", m.Path, filled(m.About, "  ", width))
		for _, r := range m.Rules {
			fmt.Fprintf(out, "    %s\n", r.Name)
		}
	}
}

// writeModule prints what a module of rules that comes with the program holds.
func writeModule(out io.Writer, m rule.LibraryModule, width int) {
	fmt.Fprintf(out, "%s\n\n%s\n", m.Path, filled(m.About, "", width))
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
				fmt.Fprintln(out, filled(p.About, "    ", width))
			}
		}
	}
}

// writePage prints what a code means, with its examples.
func writePage(out io.Writer, page *source.Page, width int) {
	fmt.Fprintf(out, "%s\n\n%s\n", page.Code, filled(page.Text, "", width))
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

func writeFunction(out io.Writer, f *builtin.Function, width int) {
	fmt.Fprintf(out, "%s.%s\n%s\n", f.Group, f.Signature, filled(f.Description, "  ", width))
	if f.Errors != "" {
		fmt.Fprintln(out, filled("Fails: "+f.Errors, "  ", width))
	}
	fmt.Fprintf(out, "  Example: %s is %s\n", f.Example, f.Result)
}

// widestHelp is how many columns help takes at most: longer lines are hard to read.
const widestHelp = 100

// helpWidth is how many columns help takes.
func (c *call) helpWidth() int {
	if !c.terminal {
		return widestHelp
	}
	return min(widestHelp, c.width)
}

// filled returns paragraphs with lines of about the same length. Lines that are indented, such as examples, stay as
// they are.
func filled(text, indent string, width int) string {
	var lines, words []string
	end := func() {
		if words != nil {
			lines = append(lines, indent+present.Fill(words, len(indent), width, indent))
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
func overview(width int) string {
	var b strings.Builder
	b.WriteString(filled("knothole evaluates typed configuration to plain data, for every environment, and shows what "+
		"differs and why.", "", width) + "\n\nusage: knothole COMMAND [flags] [arguments]\n\n")
	const column = 14
	indent := strings.Repeat(" ", column)
	for _, group := range groups {
		b.WriteString(group.title + "\n")
		for _, c := range group.commands {
			fmt.Fprintf(&b, "  %-*s%s\n", column-2, c.name, present.Fill(strings.Fields(c.short), column, width,
				indent))
		}
		b.WriteByte('\n')
	}
	b.WriteString(filled("knothole help COMMAND says more, and so does help with a word of the language, a "+
		"function, a code "+
		"or a page of the manual: help patch, help text.split, help limit, help language. Begin with: knothole "+
		"demo", "",
		width) + "\n")
	return b.String()
}

// usage is the help of one command.
func usage(cmd *command, width int) string {
	var b strings.Builder
	fmt.Fprintf(&b, "usage: knothole %s\n\n%s\n\nexample: %s\n", cmd.usage(), filled(cmd.long, "", width), cmd.example)
	own := flagTexts(cmd.flags())
	common := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	new(call).defineCommon(common)
	others := flagTexts(common)
	column := 0
	for _, text := range append(own, others...) {
		column = max(column, len(text[0]))
	}
	indent := strings.Repeat(" ", column+4)
	show := func(title string, texts [][2]string) {
		if len(texts) > 0 {
			b.WriteString("\n" + title + "\n")
		}
		for _, text := range texts {
			fmt.Fprintf(&b, "  %-*s  %s\n", column, text[0], strings.TrimPrefix(filled(text[1], indent, width), indent))
		}
	}
	show("flags:", own)
	show("flags of every command:", others)
	return b.String()
}

// flagTexts returns the flags of a set, each with its value, and what it does.
func flagTexts(flags *flag.FlagSet) (texts [][2]string) {
	flags.VisitAll(func(f *flag.Flag) {
		name, text := flag.UnquoteUsage(f)
		texts = append(texts, [2]string{strings.TrimSpace("--" + f.Name + " " + name), text})
	})
	return texts
}
