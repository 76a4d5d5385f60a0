package rule_test

import (
	"os"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/project"
	"knothole/core/rule"
	"knothole/core/source"
)

var markedName = regexp.MustCompile("‹([^›]+)›")

// TestCommonKinds checks that between objects of the common kinds nothing is told when all names are right, and for
// each name that is made wrong exactly that, at its place, with the name that it nearly is.
func TestCommonKinds(t *testing.T) {
	written, err := os.ReadFile("testdata/linked.yaml")
	require.NoError(t, err)
	commonObjects := string(written)
	names := markedName.FindAllStringSubmatchIndex(commonObjects, -1)
	require.Greater(t, len(names), 35)
	plain := func(text string) string { return markedName.ReplaceAllString(text, "$1") }
	check := func(text string) (lines []string) {
		p := project.LoadRules(fstest.MapFS{}, nil, nil, nil)
		objects, keys := objectsIn(t, p, "all.yaml", []byte(text))
		for _, f := range checkFiles(p, objects, keys, rule.Options{Builtins: builtin.Table}).Findings {
			require.Equal(t, source.DanglingReference, f.Code, f.Message)
			at := p.Sources.Locate(f.Span.Start)
			rest := strings.Split(text, "\n")[at.Line-1][at.Column-1:]
			lines = append(lines, rest+"\n"+f.Message+"\n"+f.Help)
		}
		return lines
	}
	require.Empty(t, check(plain(commonObjects)))
	for _, at := range names {
		name := commonObjects[at[2]:at[3]]
		before, after := plain(commonObjects[:at[0]]), plain(commonObjects[at[1]:])
		found := check(before + name + "x" + after)
		line := before[strings.LastIndexByte(before, '\n')+1:]
		require.Len(t, found, 1, "%s‹%sx›: %v", line, name, found)
		require.Contains(t, found[0], name+"x", line)
		require.Contains(t, found[0], `"`+name+`"`, "%s: the help names it", line)
		// A name is told at itself, a selector where its labels begin.
		if !strings.HasPrefix(found[0], name+"x") {
			require.True(t, strings.HasPrefix(found[0], "{ app: "+name+"x"), found[0])
		}
	}
}
