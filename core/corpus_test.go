package core_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/data"
	_ "knothole/core/expression" // which schemas know by an interface
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/rule"
	"knothole/core/source"
	"knothole/core/value"
	"knothole/core/verify"
)

var update = flag.Bool("update", false,
	"write what the corpus evaluates to into its files; read it before it is committed")

// TestCorpus runs every program under testdata/corpus. An archive holds several programs: the files of one stand
// under a directory with its name, the file `want` says what must come out: the outputs and documents of each
// environment, and what its tests find, or the findings at their exact place. A program without a project file gets
// one with a single environment.
func TestCorpus(t *testing.T) {
	archives, err := filepath.Glob("testdata/corpus/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, archives)
	programs := 0
	for _, name := range archives {
		archive, err := txtar.ParseFile(name)
		require.NoError(t, err)
		cases := map[string]fstest.MapFS{}
		wanted := map[string]*txtar.File{}
		var order []string
		for i := range archive.Files {
			f := &archive.Files[i]
			folder, file, ok := strings.Cut(f.Name, "/")
			require.True(t, ok, "%s: %s stands in no directory", name, f.Name)
			if cases[folder] == nil {
				cases[folder] = fstest.MapFS{}
				order = append(order, folder)
			}
			if file == "want" {
				wanted[folder] = f
				continue
			}
			cases[folder][file] = &fstest.MapFile{Data: f.Data}
		}
		for _, folder := range order {
			programs++
			t.Run(strings.TrimSuffix(filepath.Base(name), ".txtar")+"/"+folder, func(t *testing.T) {
				if !*update {
					t.Parallel()
				}
				got := runProgram(t, cases[folder])
				if *update {
					if wanted[folder] == nil {
						archive.Files = append(archive.Files, txtar.File{Name: folder + "/want"})
						wanted[folder] = &archive.Files[len(archive.Files)-1]
					}
					wanted[folder].Data = []byte(got)
					return
				}
				require.NotNil(t, wanted[folder], "no want")
				require.Equal(t, string(wanted[folder].Data), got)
			})
		}
		if *update {
			sort.SliceStable(archive.Files,
				func(i, j int) bool { return caseOf(order, archive.Files[i]) < caseOf(order, archive.Files[j]) })
			require.NoError(t, os.WriteFile(name, txtar.Format(archive), 0o644))
		}
	}
	require.GreaterOrEqual(t, programs, 500)
}

func caseOf(order []string, f txtar.File) int {
	folder, file, _ := strings.Cut(f.Name, "/")
	for i, name := range order {
		if name == folder {
			if file == "want" {
				return 2*i + 1
			}
			return 2 * i
		}
	}
	return 0
}

// today is the day on which the exemptions of programs are judged.
var today = time.Date(2027, 3, 31, 12, 0, 0, 0, time.UTC)

// verified returns what is wrong with a project in some runs.
func verified(p *project.Project, runs []*project.Run, options render.Options, today time.Time,
	emit func(*render.Result) error) source.Findings {
	outcome, err := verify.Project(p, runs, verify.Options{Options: options, Rules: true,
		Builtins: builtin.Table, Today: today}, emit)
	if err != nil {
		panic(err) // there is nothing that could fail
	}
	return outcome.Findings()
}

// held renders all environments of a project, and checks the rules and links that it has.
func held(p *project.Project, options render.Options) ([]*render.Result, source.Findings) {
	options.Validate = rule.Any(p)
	var results []*render.Result
	findings := verified(p, p.Runs(p.Concrete()), options, today, func(r *render.Result) error {
		results = append(results, r)
		return nil
	})
	return results, findings
}

// runProgram evaluates a program and shows what came out.
func runProgram(t *testing.T, files fstest.MapFS) string {
	t.Helper()
	if files[project.FileName] == nil {
		files[project.FileName] = &fstest.MapFile{Data: []byte("[environments.bench]\n")}
	}
	p, err := project.Load(files)
	require.NoError(t, err)
	results, findings := held(p, render.Options{Everything: true, Outputs: true})
	var b strings.Builder
	for _, f := range findings {
		writeFinding(&b, p.Sources, f)
	}
	if findings.HasErrors() {
		return b.String()
	}
	recorded, again := held(p, render.Options{Everything: true, Recording: true})
	require.Len(t, again, len(findings), "a recorded evaluation finds the same")
	for i, r := range results {
		require.Len(t, recorded[i].Documents, len(r.Documents))
		for j, d := range r.Documents {
			require.True(t, value.Identical(d.Value, recorded[i].Documents[j].Value),
				"a recorded evaluation gives the same")
		}
		prefix := ""
		if len(results) > 1 {
			prefix = r.Run.Name + ": "
		}
		for _, out := range r.Outputs {
			fmt.Fprintf(&b, "%s%s = %s\n", prefix, out.Object.Name, data.CompactJSON(value.Shown(out.Value)))
		}
		for _, remark := range r.Remarks {
			fmt.Fprintf(&b, "%sremark: %s\n", prefix, remark)
		}
		for _, d := range r.Documents {
			text, err := d.Text()
			require.NoError(t, err)
			secret := ""
			if d.Secret {
				secret = "secret "
			}
			fmt.Fprintf(&b, "%s%s%s:\n%s", prefix, secret, d.Path, indent(string(text)))
		}
		for _, u := range r.Unchecked {
			fmt.Fprintf(&b, "%snot checked: %s\n", prefix, p.Sources.Locate(u.At.Start))
		}
	}
	tests, err := p.Tests(nil, func(string) bool { return true })
	if err != nil {
		panic(err)
	}
	for _, test := range tests {
		fmt.Fprintf(&b, "test %q: %d findings\n", test.Title, len(test.Findings))
		for _, f := range test.Findings {
			writeFinding(&b, p.Sources, f)
		}
	}
	return b.String()
}

func indent(text string) string {
	lines := strings.SplitAfter(text, "\n")
	for i, line := range lines {
		if strings.TrimSpace(line) != "" {
			lines[i] = "    " + line
		}
	}
	return strings.Join(lines, "")
}

func writeFinding(b *strings.Builder, set *source.Set, f source.Finding) {
	fmt.Fprintf(b, "%s: %s: %s [%s]\n", set.Locate(f.Span.Start), f.Severity, f.Message, f.Code)
	if f.Help != "" {
		fmt.Fprintf(b, "  help: %s\n", f.Help)
	}
	for _, r := range f.Related {
		fmt.Fprintf(b, "  see %s: %s\n", set.Locate(r.Span.Start), r.Text)
	}
	if len(f.Environments) > 0 {
		fmt.Fprintf(b, "  in %s\n", strings.Join(f.Environments, ", "))
	}
}
