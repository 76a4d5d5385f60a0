// Package command is the command line: one file for each command, which reads its flags, calls the core once and
// hands the result to one presenter.
package command

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"regexp"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync/atomic"

	"github.com/Masterminds/semver/v3"
	"golang.org/x/term"

	"knothole/core/eval"
	_ "knothole/core/expression" // the rules of custom resource definitions
	"knothole/core/parallel"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
	"knothole/outside/gate"
	"knothole/outside/repository"
	"knothole/shell/present"
)

// Exit statuses, the same for every command: nothing to report; the project or the data is wrong, or differs; the
// command line or the machine stands against the work; the run was interrupted (128 and the number of the signal, as
// shells have it).
const (
	exitClean       = 0
	exitFindings    = 1
	exitFailed      = 2
	exitInterrupted = 130
)

// System is what a command knows of the machine.
type system struct {
	in          io.Reader
	out, err    io.Writer
	folder      string         // the working directory
	lost        error          // why the working directory cannot be found, or nil
	terminal    bool           // whether out is one
	errTerminal bool           // whether err is one
	fit         bool           // whether what is shown is cut and wrapped to the width
	width       int            // of the terminal
	errWidth    int            // of that of err; 0 when it is none
	color       bool           // whether out shows colours
	errColor    bool           // whether err does
	signals     chan os.Signal // that interrupt a run; nil where there are none
	disk        *gate.Disk     // where files are written; nil for the machine's
}

// gcPercent is how much the heap may grow, in percent, before it is looked through.
const gcPercent = 200

// memoryTarget is from how much memory on, in bytes, the heap is looked through more often.
const memoryTarget = 768 << 20

// System returns the machine that the program runs on.
func System() *system {
	// A run is short: collecting less often costs memory that is soon given back.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(gcPercent)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryTarget)
	}
	s := &system{in: os.Stdin, out: os.Stdout, err: os.Stderr, width: 120, signals: make(chan os.Signal, 1)}
	signal.Notify(s.signals, os.Interrupt)
	s.folder, s.lost = os.Getwd()
	if term.IsTerminal(int(os.Stdout.Fd())) {
		s.terminal, s.fit = true, true
		if width, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil && width > 0 {
			s.width = width
		}
	}
	if s.errTerminal = term.IsTerminal(int(os.Stderr.Fd())); s.errTerminal {
		if width, _, err := term.GetSize(int(os.Stderr.Fd())); err == nil && width > 0 {
			s.errWidth = width
		}
	}
	// https://no-color.org: any value that is not empty.
	wanted := os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	s.color, s.errColor = s.terminal && wanted, s.errTerminal && wanted
	return s
}

// sink is standard output. It keeps the first error, so that no answer that is cut short looks whole.
type sink struct {
	io.Writer
	err error
}

func (s *sink) Write(text []byte) (int, error) {
	n, err := s.Writer.Write(text)
	if s.err == nil {
		s.err = err
	}
	return n, err
}

// command is one command of the program.
type command struct {
	name      string
	arguments string // as in the usage line
	short     string // one line, for the list of commands
	long      string
	example   string // from the demo
	rules     bool   // it holds the rules of the project, or runs their tests
	// run does the work; flags has been given the flags by define.
	define func(flags *flag.FlagSet) func(c *call) int
}

// flags returns the flags of the command, without those that every command has.
func (c *command) flags() *flag.FlagSet {
	flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
	c.define(flags)
	return flags
}

// usage returns the usage line of the command.
func (c *command) usage() string {
	return strings.TrimSpace(c.name + " " + withChoices(c.arguments, c.flags()))
}

// call is one run of a command.
type call struct {
	*system
	// out and err are what people read; data is for programs: bytes as they are, but on a terminal.
	out, err, data io.Writer
	written        *sink // what out and data write to
	command        *command
	arguments      []string
	project        string
	color          string
	quiet          bool
	ctx            context.Context                   // done when the run is interrupted
	writing        *atomic.Bool                      // files are being written: a run that is interrupted tidies up first
	snapshot       *project.Snapshot                 // the last that was read, for the next to share with
	repositories   map[string]*repository.Repository // that were asked, by the directory; closed when the run ends
}

// interruptible ends the run when it is interrupted: at once, or if files are being written when these are whole or
// gone.
func (c *call) interruptible() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	c.ctx = ctx
	if c.signals == nil {
		return cancel
	}
	go func() {
		select {
		case <-ctx.Done():
			return
		case <-c.signals:
		}
		cancel()
		if !c.writing.Load() {
			os.Exit(c.interrupted(nil))
		}
	}()
	return cancel
}

// interrupted says that the run was interrupted, if that is what an error says or there is none; other errors are
// shown.
func (c *call) interrupted(err error) int {
	switch {
	case err != nil && !errors.Is(err, context.Canceled):
		return c.failed("%s", c.told(err))
	case c.writing.Load():
		c.failed("interrupted: nothing was written")
	default:
		c.failed("interrupted")
	}
	return exitInterrupted
}

// groups has all commands, in the order of the work, by what people want of them; commands is all of them. They are set
// in init, since help refers to them.
var (
	groups   []group
	commands []*command
)

func init() {
	groups = []group{
		{"Begin", []*command{demoCommand, newCommand}},
		{"Write", []*command{inputsCommand, setCommand, fmtCommand}},
		{"Check", []*command{checkCommand, testCommand, rulesCommand, validateCommand, schemaCommand}},
		{"Render", []*command{renderCommand, outputsCommand}},
		{"Ask", []*command{whyCommand, lookCommand}},
		{"Compare", []*command{diffCommand, impactCommand, driftCommand, reportCommand}},
		{"Other", []*command{helpCommand, completionCommand, versionCommand}},
	}
	for _, g := range groups {
		commands = append(commands, g.commands...)
	}
}

// group is commands that answer to one wish.
type group struct {
	title    string
	commands []*command
}

// Main runs the program and returns its exit status.
func Main(arguments []string, s *system) (status int) {
	// People get messages, never a trace of the program.
	defer func() {
		if problem := recover(); problem != nil {
			caught, screen := parallel.Caught(problem), present.NewScreen(s.err)
			fmt.Fprintf(screen, "knothole: this is a bug in knothole, not an error in your files: %s\n"+
				"  please report it with: knothole %s\n", describePanic(caught.Value), strings.Join(arguments, " "))
			if os.Getenv(traceVariable) == "" {
				fmt.Fprintf(screen, "  and with what %s=1 adds: where in knothole it happened\n", traceVariable)
			} else {
				printCallers(screen, caught.Callers)
			}
			status = exitFailed
		}
	}()
	if len(arguments) == 0 {
		fmt.Fprint(present.NewScreen(s.err), overview(widestHelp))
		return exitFailed
	}
	out, machine := &sink{Writer: s.out}, *s
	machine.out = out
	s = &machine
	name := arguments[0]
	switch name {
	case "-h", "-help", "--help":
		name = "help"
	case "-version", "--version":
		name = "version"
	}
	cmd := findCommand(name)
	if cmd == nil {
		screen := present.NewScreen(s.err)
		if strings.HasPrefix(name, "-") {
			return flagFirst(screen, arguments)
		}
		fmt.Fprintf(screen, "knothole: there is no command %q\n", name)
		var names []string
		for _, c := range commands {
			names = append(names, c.name)
		}
		if near, ok := source.Nearest(name, names); ok {
			fmt.Fprintf(screen, "  did you mean: knothole %s\n", near)
		} else {
			fmt.Fprintf(screen, "  commands are %s\n", strings.Join(names, ", "))
		}
		return exitFailed
	}
	c := &call{system: s, command: cmd, out: present.NewScreen(out), err: present.NewScreen(s.err), data: out,
		written: out, writing: new(atomic.Bool), ctx: context.Background()}
	if s.terminal {
		c.data = c.out
	}
	defer c.interruptible()()
	defer c.closeRepositories()
	if cmd.name == "completion" && len(arguments) > 1 && arguments[1] == "words" {
		// The words are what a person types, flags and all: they are read as words.
		return completeWords(c, arguments[2:])
	}
	defer func() {
		if out.err != nil {
			status = c.failed("standard output cannot be written: %s", plainError(out.err))
		}
	}()
	if s.lost != nil && !slices.Contains(groups[len(groups)-1].commands, cmd) {
		return c.failed("the current directory cannot be found: %s\n  change into a directory that exists",
			strings.TrimPrefix(s.lost.Error(), "getwd: "))
	}
	flags := flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	c.defineCommon(flags)
	run := cmd.define(flags)
	onlyOnce(flags)
	rest := arguments[1:]
	for {
		if err := flags.Parse(rest); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				fmt.Fprint(c.out, usage(cmd, c.helpWidth()))
				return exitClean
			}
			return c.wrongUsage("%s", flagMistake(flags, err))
		}
		// Flags may be between and behind arguments; behind "--" there are only arguments.
		taken := len(rest) - flags.NArg()
		if taken > 0 && rest[taken-1] == "--" {
			c.arguments = append(c.arguments, flags.Args()...)
			break
		}
		if flags.NArg() == 0 {
			break
		}
		c.arguments = append(c.arguments, flags.Arg(0))
		rest = flags.Args()[1:]
	}
	switch c.color {
	case colorAuto:
	case colorAlways, colorNever:
		s.color = c.color == colorAlways
		s.errColor = s.color
		if s.color && !s.terminal && s.errWidth > 0 { // what shows the colours, such as a pager, is on that terminal
			s.fit, s.width = true, s.errWidth
		}
	}
	return run(c)
}

// defineCommon adds the flags that every command has.
func (c *call) defineCommon(flags *flag.FlagSet) {
	flags.StringVar(&c.project, "project", "",
		"project directory `DIR` (default: nearest parent directory with a knothole.toml)")
	choose(flags, &c.color, "color", "colours, `WHEN` (auto: on a terminal)", colorAuto, colorAlways, colorNever)
	flags.BoolVar(&c.quiet, "quiet", false, "only the answer and errors: no summary, no notes, no progress")
}

// flagMistake says what is wrong with flags, with the nearest flag that there is.
func flagMistake(flags *flag.FlagSet, err error) string {
	name, unknown := strings.CutPrefix(err.Error(), "flag provided but not defined: -")
	if !unknown {
		return oneDash.ReplaceAllString(err.Error(), "$1--$2")
	}
	var names []string
	flags.VisitAll(func(f *flag.Flag) { names = append(names, f.Name) })
	message := "there is no flag --" + name
	if near, ok := source.Nearest(name, names); ok {
		message += "; did you mean --" + near + "?"
	}
	return message
}

// oneDash finds flags as the flag package writes them: with one dash.
var oneDash = regexp.MustCompile(`(flag |for |argument: )-([a-z])`)

// flagFirst says that the command comes before its flags. Of the line it repeats no values, since one may be secret.
func flagFirst(screen io.Writer, arguments []string) int {
	flagName, _, valued := strings.Cut(arguments[0], "=")
	if valued {
		flagName += "=…"
	}
	command := "check"
	if i := slices.IndexFunc(arguments, func(a string) bool { return findCommand(a) != nil }); i >= 0 {
		command = arguments[i]
	}
	fmt.Fprintf(screen, "knothole: a command comes first, then its flags\n  write: knothole %s %s\n"+
		"  knothole help lists the commands\n", command, present.Clean(flagName))
	return exitFailed
}

// When there are colours: on terminals that take them, or as somebody says.
const (
	colorAuto   = "auto"
	colorAlways = "always"
	colorNever  = "never"
)

// describePanic says what went wrong in the program. Only what the runtime says is told in its words: what a library
// says may hold data, and that may be secret.
func describePanic(problem any) string {
	switch err := problem.(type) {
	case runtime.Error:
		return err.Error()
	case *value.Misread:
		return err.Error()
	case *eval.Silent:
		return err.Error()
	case *syntax.Changed:
		return err.Error()
	}
	return fmt.Sprintf("%T", problem)
}

// traceVariable is the variable of the environment that makes a report of a bug in the program show where it is.
const traceVariable = "KNOTHOLE_TRACE"

// printCallers prints functions of the program, innermost first: their names and lines, and nothing of what they had in
// hand.
func printCallers(screen io.Writer, callers []uintptr) {
	frames := runtime.CallersFrames(callers)
	for {
		frame, more := frames.Next()
		if strings.HasPrefix(frame.Function, "knothole/") {
			fmt.Fprintf(screen, "    %s %s:%d\n", frame.Function, filepath.Base(frame.File), frame.Line)
		}
		if !more {
			return
		}
	}
}

func findCommand(name string) *command {
	for _, c := range commands {
		if c.name == name {
			return c
		}
	}
	return nil
}

// wrongUsage reports an error in the arguments.
func (c *call) wrongUsage(format string, arguments ...any) int {
	fmt.Fprintf(c.err, "knothole %s: %s\n", c.command.name, fmt.Sprintf(format, oneLine(arguments)...))
	fmt.Fprintf(c.err, "  usage: knothole %s\n  more:  knothole help %s\n", c.command.usage(), c.command.name)
	return exitFailed
}

// stopped shows what is wrong with a project, and says what was not done for it.
func (c *call) stopped(p *opened, findings source.Findings, what string) int {
	c.presenter(p, c.err).Findings(findings)
	fmt.Fprintf(c.err, "\n%s; run knothole check for all errors\n", what)
	return exitFindings
}

// unmade is stopped for a command that compares: a side that failed is not a difference.
func (c *call) unmade(p *opened, findings source.Findings) int {
	c.stopped(p, findings, "nothing was compared")
	return exitFailed
}

// failed reports that the work could not be done.
func (c *call) failed(format string, arguments ...any) int {
	if c.written.err != nil && slices.ContainsFunc(arguments, func(a any) bool { return a == c.written.err }) {
		return exitFailed // Main reports it
	}
	fmt.Fprintf(c.err, "knothole %s: %s\n", c.command.name, fmt.Sprintf(format, oneLine(arguments)...))
	return exitFailed
}

// oneLine keeps names and errors on the line that they are put into: a name with a line end must not look like a
// message of its own.
func oneLine(arguments []any) []any {
	cleaned := make([]any, len(arguments))
	for i, a := range arguments {
		text, ok := a.(string)
		if err, isError := a.(error); isError {
			text, ok = err.Error(), true
		}
		if !ok {
			cleaned[i] = a
			continue
		}
		lines := strings.Split(text, "\n  ") // the help of an error of the program is below it, two columns in
		for j, line := range lines {
			lines[j] = present.Clean(line)
		}
		cleaned[i] = strings.Join(lines, "\n  ")
	}
	return cleaned
}

// answer is where the answer of a command goes: text is for people, every other format for programs.
func (c *call) answer(format string) io.Writer {
	if format == "text" {
		return c.out
	}
	return c.data
}

// opened is a project that a command works on.
type opened struct {
	*project.Project
	folder string // on the machine
	prefix string // from the working directory to it
}

// open finds and reads the project, with modules that its main module need not lead to. When there is none, it says
// so; the exit status is then not 0.
func (c *call) open(modules ...string) (*opened, int) {
	folder, ok := c.projectFolder()
	if !ok {
		return nil, c.failed("there is no %s here or in a parent directory\n  begin with: knothole new DIR, or name the "+
			"directory with --project", project.FileName)
	}
	// A root refuses symbolic links that leave the project.
	root, err := gate.OpenRoot(folder)
	if err != nil {
		return nil, c.failed("the directory %s cannot be read: %s", c.project, plainError(err))
	}
	p, err := project.LoadWith(root.Spelled(), project.Loading{Modules: modules, Rules: c.command.rules,
		Context: c.ctx, After: c.snapshot})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, c.failed("there is no %s in %s\n  begin with: knothole new DIR", project.FileName, c.project)
	}
	if err != nil {
		return nil, c.failed("%s cannot be read: %s", project.FileName, plainError(err))
	}
	c.snapshot = p.Snapshot
	prefix, err := filepath.Rel(c.folder, folder)
	if err != nil || prefix == "." {
		prefix = ""
	}
	all := &opened{p, folder, filepath.ToSlash(prefix)}
	if wrong := required(p); wrong != nil {
		c.presenter(all, c.err).Findings(source.Findings{*wrong})
		return nil, exitFailed
	}
	return all, exitClean
}

// required returns what stands against reading a project with this version of the program; nil when nothing does.
func required(p *project.Project) *source.Finding {
	if p.Requires == "" {
		return nil
	}
	wrong := source.Finding{Code: source.WrongType, Span: p.RequiresSpan, Help: fmt.Sprintf("such as %q", Version)}
	oldest, err := semver.NewVersion(p.Requires)
	switch {
	case err != nil:
		wrong.Message = fmt.Sprintf("%q is not a version", p.Requires)
	case semver.MustParse(Version).LessThan(oldest):
		wrong.Code, wrong.Help = source.TooOld, "get that one, or lower this when nothing in the project needs it"
		wrong.Message = fmt.Sprintf("the project needs knothole %s or later, and this is %s", p.Requires, Version)
	default:
		return nil
	}
	return &wrong
}

// projectFolder returns the directory of the project; ok is false when there is none upwards.
func (c *call) projectFolder() (folder string, ok bool) {
	if c.project != "" {
		return c.path(c.project), true
	}
	return upwards(c.folder)
}

// plainError is directory.Plain under a name that no local value has.
func plainError(err error) error { return gate.Plain(err) }

// upwards looks for the nearest directory with a project file.
func upwards(folder string) (string, bool) {
	for {
		if gate.IsFile(filepath.Join(folder, project.FileName)) {
			return folder, true
		}
		parent := filepath.Dir(folder)
		if parent == folder {
			return "", false
		}
		folder = parent
	}
}

func (c *call) presenter(p *opened, out io.Writer) *present.Presenter {
	presenter := &present.Presenter{Out: out, Sources: p.Sources, Prefix: p.prefix, Color: c.system.color,
		Width: c.width, Fit: c.fit, All: len(p.Concrete())}
	if out == c.err {
		presenter.Color, presenter.Fit = c.errColor, c.errTerminal
		if c.errWidth > 0 {
			presenter.Width = c.errWidth
		}
	}
	return presenter
}

// openSelected opens the project and finds the environments that the arguments name, all when they name none. When
// something is wrong it says so; p is then nil.
func (c *call) openSelected() (p *opened, runs []*project.Run, status int) {
	p, status = c.open()
	if p == nil {
		return nil, nil, status
	}
	runs, ok := c.environments(p, c.arguments)
	if !ok {
		return nil, nil, exitFailed
	}
	return p, runs, exitClean
}

// openModules is openSelected where arguments may be sources or directories of them too. Modules are those they name,
// as paths in the project; nil when there are none.
func (c *call) openModules() (p *opened, runs []*project.Run, modules []string, status int) {
	p, status = c.open()
	if p == nil {
		return nil, nil, nil, status
	}
	var names, paths []string
	for _, argument := range c.arguments {
		named := p.Environment(argument) != nil
		at := argument
		if !filepath.IsAbs(at) {
			at = filepath.Join(c.folder, at)
		}
		exists, _, err := gate.Exists(at)
		exists = exists || err != nil
		switch {
		case named && exists:
			return nil, nil, nil, c.wrongUsage("%q is an environment and a path: the path is written ./%s", argument,
				argument)
		case exists || strings.ContainsRune(argument, '/') || strings.HasSuffix(argument, ".knot"):
			paths = append(paths, argument)
		default:
			names = append(names, argument)
		}
	}
	if len(paths) > 0 {
		files, status := c.sources(paths)
		if status != exitClean {
			return nil, nil, nil, status
		}
		for _, file := range files {
			name, err := filepath.Rel(p.folder, file)
			if err != nil || !filepath.IsLocal(name) {
				return nil, nil, nil, c.failed("%s is not in the project %s", c.relative(file), p.Name)
			}
			modules = append(modules, filepath.ToSlash(name))
		}
		if len(modules) == 0 {
			return nil, nil, nil, c.failed("there are no .knot files in %s", strings.Join(paths, ", "))
		}
		if p, status = c.open(modules...); p == nil {
			return nil, nil, nil, status
		}
	}
	runs, ok := c.environments(p, names)
	if !ok {
		return nil, nil, nil, exitFailed
	}
	return p, runs, modules, exitClean
}

// environments returns the runs of the named environments, of all that are not abstract when none is named. When a name
// is wrong, it says so; ok is then false.
func (c *call) environments(p *opened, names []string) (runs []*project.Run, ok bool) {
	if len(names) == 0 {
		return p.Runs(p.Concrete()), true
	}
	for _, name := range names {
		e := p.Environment(name)
		switch {
		case e == nil:
			var known []string
			for _, e := range p.Concrete() {
				known = append(known, e.Name)
			}
			help := "environments are " + strings.Join(known, ", ")
			if len(known) == 0 {
				help = "the project has none: add [environments.NAME] to " + project.FileName
			}
			help = source.Suggest(name, known, help)
			fmt.Fprintf(c.err, "knothole %s: there is no environment %q in %s [%s]\n  %s\n", c.command.name, name,
				project.FileName, source.UnknownEnvironment, help)
			return nil, false
		case e.Abstract:
			fmt.Fprintf(c.err, "knothole %s: the environment %q is abstract: it only provides layers for other environments\n",
				c.command.name, name)
			return nil, false
		}
		runs = append(runs, p.Run(e))
	}
	return runs, true
}
