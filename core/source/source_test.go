package source_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
)

func add(t *testing.T, set *source.Set, name, text string) *source.File {
	t.Helper()
	f, err := set.Add(name, []byte(text))
	require.NoError(t, err)
	return f
}

func TestLocateCountsCodePoints(t *testing.T) {
	set := source.NewSet()
	a := add(t, set, "a.knot", "é = 1\r\nsecond")
	b := add(t, set, "b.knot", "")
	c := add(t, set, "c.knot", "x")
	require.Equal(t, "a.knot:1:1", set.Locate(a.Pos(0)).String())
	require.Equal(t, "a.knot:1:2", set.Locate(a.Pos(2)).String())
	require.Equal(t, "a.knot:2:3", set.Locate(a.Pos(len("é = 1\r\nse"))).String())
	require.Equal(t, "a.knot:2:7", set.Locate(a.Pos(len(a.Text))).String(), "the end of a file belongs to it")
	require.Equal(t, "b.knot:1:1", set.Locate(b.Pos(0)).String())
	require.Equal(t, "c.knot:1:2", set.Locate(c.Pos(1)).String())
	require.Equal(t, "-", set.Locate(source.NoPos).String())
	require.Equal(t, "é = 1", a.Line(1))
	require.Equal(t, "", a.Line(7))
}

func TestLineSpanStaysInside(t *testing.T) {
	set := source.NewSet()
	f := add(t, set, "d.yaml", "aé: x\ny")
	for _, c := range []struct {
		line, column int
		want         string
	}{{1, 1, "d.yaml:1:1"}, {1, 3, "d.yaml:1:3"}, {1, 99, "d.yaml:1:6"}, {2, 2, "d.yaml:2:2"}, {9, 9, "d.yaml:2:2"},
		{0, 0, "d.yaml:1:1"}} {
		require.Equal(t, c.want, set.Locate(f.LineSpan(c.line, c.column).Start).String())
	}
}

func TestTokenEnd(t *testing.T) {
	f := add(t, source.NewSet(), "x", `name-1.2 "a \" b" 'c' {x} "open`)
	for offset, want := range map[int]string{0: "name-1.2", 9: `"a \" b"`, 18: "'c'", 22: "{", 26: `"open`} {
		require.Equal(t, want, f.Text[offset:f.TokenEnd(offset)])
	}
	require.Equal(t, len(f.Text), f.TokenEnd(len(f.Text)))
}

func TestNearest(t *testing.T) {
	names := []string{"replicas", "region", "host", "hosts"}
	for wrong, want := range map[string]string{
		"replcias": "replicas", "Replicas": "replicas", "repicas": "replicas", "hsot": "host", "hostt": "host",
		"x": "", "gauge": "", "replicas": "",
	} {
		near, ok := source.Nearest(wrong, names)
		require.Equal(t, want, near, wrong)
		require.Equal(t, want != "", ok)
	}
}

func TestReportOrdersAndUnites(t *testing.T) {
	set := source.NewSet()
	b, a := add(t, set, "b.knot", "xyz"), add(t, set, "a.knot", "xyz")
	finding := func(f *source.File, offset int, message string, environments ...string) source.Finding {
		return source.Finding{Code: source.Limit, Span: source.At(f.Pos(offset)), Message: message,
			Environments: environments}
	}
	tidy := source.ReportOf(
		finding(b, 1, "second", "north"), finding(b, 0, "first"), finding(b, 1, "second", "south"),
		finding(a, 2, "zero"), finding(b, 1, "second", "north"),
		source.Finding{Code: source.BadData, Message: "no place"},
	).Findings(set)
	var got []string
	for _, f := range tidy {
		got = append(got, f.Message)
	}
	require.Equal(t, []string{"no place", "zero", "first", "second"}, got)
	require.Equal(t, []string{"north", "south"}, tidy[3].Environments)
	everywhere := source.ReportOf(finding(b, 1, "second", "north"), finding(b, 1, "second")).Findings(set)
	require.Len(t, everywhere, 1)
	require.Empty(t, everywhere[0].Environments, "what holds in all environments does not hold in one only")
	coded := source.ReportOf(source.Finding{Code: source.Unused, Span: source.At(a.Pos(0))},
		source.Finding{Code: source.Limit, Span: source.At(a.Pos(0))}).Findings(set)
	require.Equal(t, source.Limit, coded[0].Code)
	errors, warnings := tidy.Count()
	require.Equal(t, []int{4, 0}, []int{errors, warnings})
}

// TestUTF16 checks that places are counted as editors count them, and found again.
func TestUTF16(t *testing.T) {
	set := source.NewSet()
	f, err := set.Add("a.knot", []byte("añ\U0001F30Ab\r\nx\n"))
	require.NoError(t, err)
	for _, row := range []struct{ offset, line, column int }{
		{0, 0, 0}, {1, 0, 1}, {3, 0, 2}, {7, 0, 4}, {8, 0, 5}, {10, 1, 0}, {11, 1, 1}, {12, 2, 0},
	} {
		line, column := f.UTF16(row.offset)
		require.Equal(t, []int{row.line, row.column}, []int{line, column}, "offset %d", row.offset)
		require.Equal(t, row.offset, f.UTF16Offset(row.line, row.column))
	}
	require.Equal(t, 3, f.UTF16Offset(0, 3), "inside of a character of two units")
	require.Equal(t, 8, f.UTF16Offset(0, 99), "behind the end of a line")
	require.Equal(t, 12, f.UTF16Offset(99, 0))
}

// TestReplace checks that a file can be replaced: places are in its new version, and none in the old.
func TestReplace(t *testing.T) {
	set := source.NewSet()
	a, err := set.Add("a", []byte("first"))
	require.NoError(t, err)
	b, err := set.Add("b", []byte("second"))
	require.NoError(t, err)
	old := a.Pos(2)
	again, err := set.Replace(a, []byte("another"))
	require.NoError(t, err)
	require.Nil(t, set.File(old))
	require.Same(t, again, set.File(again.Pos(3)))
	require.Same(t, again, set.Named("a"))
	require.Same(t, b, set.File(b.Pos(0)))
	require.Same(t, b, set.File(b.Pos(6)), "the end of a file is in it")
	for i := range 1000 {
		again, err = set.Replace(again, []byte(strings.Repeat("x", i%17)))
		require.NoError(t, err)
		require.Same(t, again, set.File(again.Pos(0)))
		require.Same(t, b, set.File(b.Pos(5)))
	}
}
