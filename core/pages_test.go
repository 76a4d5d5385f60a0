package core_test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/verify"
)

// findingsOf checks a small project of a page.
func findingsOf(t *testing.T, files []source.PageFile) source.Findings {
	t.Helper()
	fs := fstest.MapFS{project.FileName: {Data: []byte("[environments.bench]\n")}}
	for _, f := range files {
		fs[f.Name] = &fstest.MapFile{Data: []byte(f.Text)}
	}
	p, err := project.Load(fs)
	require.NoError(t, err)
	outcome, err := verify.Project(p, p.Runs(p.Concrete()), verify.Options{
		Options: render.Options{Everything: true, Validate: true}, Rules: true, Parity: true, Builtins: builtin.Table,
		Today: time.Now()}, nil)
	require.NoError(t, err)
	return outcome.Findings()
}

// TestPages runs the examples of every code: the wrong one is found for just this reason, the right one is clean.
func TestPages(t *testing.T) {
	withoutExamples := []source.Code{source.NotUTF8, source.ForeignFile, source.Expectation, source.SecretUnavailable,
		source.TooOld, source.RenderedDiffers}
	for _, code := range source.Codes() {
		t.Run(string(code), func(t *testing.T) {
			page, ok := source.PageOf(code)
			require.True(t, ok)
			require.NotEmpty(t, page.Text)
			if slices.Contains(withoutExamples, code) {
				require.Empty(t, page.Wrong)
				return
			}
			wrong := findingsOf(t, page.Wrong)
			require.True(t, slices.ContainsFunc(wrong, func(f source.Finding) bool { return f.Code == code }), "%v",
				wrong)
			require.LessOrEqual(t, len(wrong), 3, "the example shows one mistake: %v", wrong)
			require.Empty(t, findingsOf(t, page.Right))
		})
	}
}

// TestEveryCodeHasAPage compares the pages with the constants.
func TestEveryCodeHasAPage(t *testing.T) {
	text, err := os.ReadFile("source/codes.go")
	require.NoError(t, err)
	var constants []source.Code
	for _, match := range regexp.MustCompile(`Code = "([a-z0-9-]+)"`).FindAllStringSubmatch(string(text), -1) {
		constants = append(constants, source.Code(match[1]))
	}
	slices.Sort(constants)
	require.Equal(t, constants, source.Codes(), "the page of a code is core/source/pages/CODE.txtar")
}

// TestEveryCodeOccurs checks that every code is found by a program of the corpus, or, what only the outside can find,
// by a script of the built program.
func TestEveryCodeOccurs(t *testing.T) {
	var all strings.Builder
	for _, pattern := range []string{"testdata/corpus/*.txtar", "../shell/command/testdata/script/*.txtar"} {
		names, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, name := range names {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			all.Write(text)
		}
	}
	for _, code := range source.Codes() {
		plain, escaped := "["+string(code)+"]", `\[`+string(code)+`\]`
		require.True(t, strings.Contains(all.String(), plain) || strings.Contains(all.String(), escaped),
			"no program of core/testdata/corpus or script of shell/command/testdata has the finding %s", code)
	}
}
