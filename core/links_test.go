package core_test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/source"
)

var (
	pageLink    = regexp.MustCompile(`\[[^\]]*\]\(([^)\s]+)\)`)
	pageHeading = regexp.MustCompile(`(?m)^#+ (.*)$`)
	pageCode    = regexp.MustCompile("`([a-z0-9_.-]+)`")
	inlineCode  = regexp.MustCompile("`[^`\n]*`")
	codeBlock   = regexp.MustCompile("(?ms)^```.*?^```$")
)

// anchor is the name of a heading in links, as code hosts make it.
func anchor(heading string) string {
	heading = strings.ToLower(strings.NewReplacer("`", "", "*", "").Replace(heading))
	return strings.ReplaceAll(strings.Join(regexp.MustCompile(`[^a-z0-9 _-]`).Split(heading, -1), ""), " ", "-")
}

// TestLinks checks that every link on a page of the manual, and of the pages beside it, leads somewhere.
func TestLinks(t *testing.T) {
	pages, err := filepath.Glob("../docs/*.md")
	require.NoError(t, err)
	more, err := filepath.Glob("../*.md")
	require.NoError(t, err)
	links := 0
	for _, page := range append(pages, more...) {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		prose := inlineCode.ReplaceAllString(codeBlock.ReplaceAllString(string(text), ""), "")
		for _, link := range pageLink.FindAllStringSubmatch(prose, -1) {
			if strings.Contains(link[1], "://") {
				continue
			}
			links++
			file, part, _ := strings.Cut(link[1], "#")
			to := page
			if file != "" {
				to = filepath.Join(filepath.Dir(page), filepath.FromSlash(file))
			}
			target, err := os.ReadFile(to)
			if info, statErr := os.Stat(to); statErr == nil && info.IsDir() {
				continue
			}
			require.NoError(t, err, "%s: %s", page, link[1])
			if part == "" {
				continue
			}
			found := slices.ContainsFunc(pageHeading.FindAllStringSubmatch(string(target), -1),
				func(heading []string) bool { return anchor(heading[1]) == part })
			require.True(t, found, "%s: %s leads to no heading", page, link[1])
		}
	}
	require.Greater(t, links, 60)
}

// TestIndexes checks that the codes and functions of the indexes by question are there.
func TestIndexes(t *testing.T) {
	text, err := os.ReadFile("../docs/reference.md")
	require.NoError(t, err)
	section := func(title string) string {
		_, after, ok := strings.Cut(string(text), "\n## "+title+"\n")
		require.True(t, ok, title)
		section, _, _ := strings.Cut(after, "\n## ")
		return section
	}
	codes := source.Codes()
	var indexed []source.Code
	for _, name := range pageCode.FindAllStringSubmatch(section("Codes by question"), -1) {
		indexed = append(indexed, source.Code(name[1]))
	}
	require.ElementsMatch(t, codes, indexed, "each code is in a row of Codes by question of docs/reference.md")
	var functions []string
	for _, f := range builtin.All() {
		functions = append(functions, f.Group+"."+f.Name())
	}
	for _, name := range pageCode.FindAllStringSubmatch(section("Functions by question"), -1) {
		if strings.Contains(name[1], ".") {
			require.Contains(t, functions, name[1])
		}
	}
}
