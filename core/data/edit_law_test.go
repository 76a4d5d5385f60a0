package data_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/value"
)

// drawn is a data file that is drawn, and what is known of each of its entries.
type drawn struct {
	*rand.Rand
	strings.Builder
	format  data.Format
	entries []drawnEntry
}

// drawnEntry is an entry of a drawn file: where it begins, and between which offsets its value is, with the space
// before it. Of an entry with lines of its own, they begin with that of its key.
type drawnEntry struct {
	path           []string
	line, key      int
	value, end     int
	record, isFlow bool
	whole          bool // whether it can be replaced as a whole
}

func (d *drawn) one(of ...string) string { return oneOf(d, of...) }

func oneOf[T any](d *drawn, of ...T) T { return of[d.IntN(len(of))] }

// draw returns a file of a format.
func draw(random *rand.Rand, format data.Format) *drawn {
	d := &drawn{Rand: random, format: format}
	switch format {
	case data.YAML:
		d.WriteString(d.one("", "# head\n", "# head\n\n"))
		d.yaml(nil, 0)
		d.WriteString(d.one("", "# tail\n", "\n# tail\n"))
	case data.JSON:
		d.json(nil, d.one("", "\n"))
		d.WriteString(d.one("", "\n"))
	default:
		d.WriteString(d.one("", "# head\n", "# head\n\n"))
		d.toml(nil, 1+d.IntN(3))
		for i := range d.IntN(3) {
			d.table([]string{fmt.Sprintf("t%d", i)})
		}
		if d.IntN(4) == 0 {
			d.WriteString("[[many]]\nx = 1\n[[many]]\nx = 2\n")
		}
	}
	return d
}

// enter notes an entry while its value is written.
func (d *drawn) enter(path []string, line, key int, write func(e *drawnEntry)) {
	e := drawnEntry{path: slices.Clone(path), line: line, key: key, value: d.Len(), whole: true}
	write(&e)
	e.end = d.Len()
	d.entries = append(d.entries, e)
}

// yaml writes a mapping that is indented so far.
func (d *drawn) yaml(path []string, indent int) {
	space := strings.Repeat(" ", indent)
	for i := range 1 + d.IntN(3) {
		d.WriteString(d.one("", "", "\n", space+"# of it\n", "\n"+space+"# far\n\n"))
		name := fmt.Sprintf("%s%d", d.one("k", "key-", "no "), i)
		written := name
		if d.IntN(6) == 0 {
			written = `"` + name + `"`
		}
		line := d.Len()
		d.WriteString(space + written + ":")
		inner := append(slices.Clip(path), name)
		comment := d.one("", "", " # c", "  # it's [c]")
		d.enter(inner, line, line+indent, func(e *drawnEntry) {
			kind := d.IntN(14)
			switch {
			case kind < 3 && indent < 6:
				e.record = true
				d.WriteString(comment + "\n")
				d.yaml(inner, indent+oneOf(d, 1, 2, 4))
				return
			case kind == 3:
				e.record, e.isFlow = true, true
				d.WriteByte(' ')
				d.flow(inner, d.one("", "\n"+space+"   "))
			case kind == 4:
				dash := d.one("- ", "  - ")
				d.WriteString("\n" + space + dash + "1 # one\n")
				if d.IntN(2) == 0 {
					d.WriteString(space + dash + "x: 2\n" + space + strings.Repeat(" ", len(dash)) + "y: [3,\n" +
						space + "     4]\n")
				}
				if d.IntN(2) == 0 {
					d.WriteString("\n" + space + dash + "\"two\"\n")
				}
				return
			case kind == 5:
				d.WriteString(d.one(" |", " >", " |-", " |+", " >-") + "\n")
				d.WriteString(space + "  first\n")
				for range d.IntN(3) {
					d.WriteString(d.one(space+"  one\n", space+"  # two\n", "\n"+space+"   three\n"))
				}
				return
			case kind == 6:
				d.WriteString(" [1, 'a]',\n" + space + "  # in\n" + space + "  {x: \"}\"}]")
			case kind == 7:
				d.WriteString(" words that\n" + space + "  go on\n" + space + " and on")
			case kind == 8:
				d.WriteString(" \"several\n" + space + "  lines # no comment\"")
			default:
				d.WriteString(d.one("", " ~", " null", " 1", " -2.5", " word", " two words",
					" 'it''s # x'", ` "a\"b: c"`,
					" a#b", " http://x/#y", " []", " {}", " true"))
			}
			e.end = d.Len()
		})
		if last := d.entries[len(d.entries)-1]; !strings.HasSuffix(d.String(), "\n") || last.end == last.value {
			d.entries[len(d.entries)-1].end = d.Len()
			d.WriteString(comment + "\n")
		}
	}
}

// flow writes a record in brackets, with something between its entries.
func (d *drawn) flow(path []string, between string) {
	d.WriteByte('{')
	n := 1 + d.IntN(3)
	for i := range n {
		d.WriteString(d.one(between, between+" "))
		name := fmt.Sprintf("f%d", i)
		key := d.Len()
		inner := append(slices.Clip(path), name)
		sign := map[data.Format]string{data.YAML: ": ", data.TOML: d.one(" = ", "="),
			data.JSON: d.one(": ", ":")}[d.format]
		if d.format == data.JSON {
			d.WriteString(`"` + name + `"`)
		} else {
			d.WriteString(name)
		}
		d.WriteString(sign)
		d.enter(inner, -1, key, func(e *drawnEntry) {
			switch {
			case d.IntN(4) == 0 && len(path) < 4:
				e.record, e.isFlow = true, true
				d.flow(inner, between)
			default:
				d.WriteString(d.one(`"a, {b}"`, "12", "[1, [2]]", "true", `"it's"`))
			}
		})
		if i < n-1 {
			d.WriteString(d.one(",", " ,"))
			if between == "" {
				d.WriteByte(' ')
			}
		}
	}
	d.WriteString(between + "}")
}

func (d *drawn) json(path []string, between string) {
	if between != "" {
		between += strings.Repeat("  ", len(path)+1)
	}
	d.flow(path, between)
}

// table writes a table of TOML under its header, and tables in it.
func (d *drawn) table(path []string) {
	keys := slices.Clone(path)
	for i, key := range keys {
		if strings.Contains(key, ".") || d.IntN(5) == 0 {
			keys[i] = `"` + key + `"`
		}
	}
	d.WriteString(d.one("", "\n", "# of the table\n", "\n# far\n\n"))
	open := d.one("[", "[ ", "  [")
	d.WriteString(open + strings.Join(keys, d.one(".", " . ")) + d.one("]", " ]") + d.one("", " # c ]") + "\n")
	d.toml(path, d.IntN(3))
	if d.IntN(3) == 0 && len(path) < 3 {
		d.table(append(slices.Clip(path), d.one("in", "a.b")))
	}
}

// toml writes so many entries of a table.
func (d *drawn) toml(path []string, n int) {
	for i := range n {
		d.WriteString(d.one("", "", "\n", "# of it\n", "\n# far [x]\n\n"))
		name := fmt.Sprintf("k%d", i)
		line := d.Len()
		d.WriteString(d.one("", "", "  "))
		key := d.Len()
		inner := append(slices.Clip(path), name)
		d.WriteString(name)
		if d.IntN(5) == 0 {
			d.WriteString(d.one(".", " . ") + "dot")
			inner = append(inner, "dot")
		}
		d.WriteString(d.one(" =", "  ="))
		d.enter(inner, line, key, func(e *drawnEntry) {
			d.WriteByte(' ')
			switch d.IntN(8) {
			case 0:
				e.record, e.isFlow = true, true
				d.flow(inner, "")
			case 1:
				d.WriteString("[\n  1, # one ]\n  [2],\n]")
			case 2:
				d.WriteString("\"\"\"\n[no] # table\n  x = 1\n\"\"\"")
			case 3:
				d.WriteString("'''one\n[two]'''")
			default:
				d.WriteString(d.one("1", "-2.5", `"a # b"`, `'it\s'`, "true", "2026-03-31", `"a\"b"`, "[]", "{}"))
			}
		})
		d.WriteString(d.one("", " # c", "  # [c]") + "\n")
	}
}

// TestEditsKeepTheRest changes drawn files at random: a value that is there, a new one, or one that is taken out. The
// file then says just that; of its bytes, those outside of the value or the entry do not change; and nothing is refused
// that can be done.
func TestEditsKeepTheRest(t *testing.T) {
	rounds := 4000
	if testing.Short() {
		rounds = 400
	}
	replaced, added, removed := 0, 0, 0
	for seed := range uint64(rounds) {
		random := rand.New(rand.NewPCG(seed, 27))
		d := draw(random, []data.Format{data.YAML, data.TOML, data.JSON}[seed%3])
		text := d.String()
		file, err := source.NewSet().Add("layer", []byte(text))
		require.NoError(t, err)
		before, findings := data.Read(file, d.format, nil)
		require.Empty(t, findings, "seed %d\n%s", seed, text)
		says := func(changed string, wanted value.Value) {
			again, err := source.NewSet().Add("layer", []byte(changed))
			require.NoError(t, err)
			after, findings := data.Read(again, d.format, nil)
			require.Empty(t, findings)
			require.True(t, value.Identical(wanted, after), "seed %d\n%s\n->\n%s", seed, text, changed)
		}
		v := []value.Value{value.IntOf(6, 0), value.StringOf("north bay", 0), value.StringOf("a: b # c\n", 0),
			value.ListOf([]value.Value{value.IntOf(6, 0)}, 0)}[random.IntN(4)]
		e := d.entries[random.IntN(len(d.entries))]
		what := fmt.Sprintf("seed %d: %v\n%s", seed, e.path, text)

		changed, err := data.Set(file, d.format, e.path, v)
		if e.whole {
			replaced++
			require.NoError(t, err, what)
			says(changed, value.Put(before, e.path, v))
			require.True(t, strings.HasPrefix(changed, text[:e.value]), "%s\n->\n%s", what, changed)
			require.True(t, strings.HasSuffix(changed, strings.TrimPrefix(text[e.end:], "\n")),
				"%s\n->\n%s", what, changed)
		} else {
			require.True(t, err == nil || errors.Is(err, data.ErrCannotEdit), what)
		}

		in := e.path[:len(e.path)-1] // where a new entry goes
		if e.record {
			in = e.path
		}
		path := append(slices.Clip(in), "new")
		changed, err = data.Set(file, d.format, path, v)
		// Empty lines and what comes after them would no longer belong to the text before.
		refused := strings.Contains(text, "|+") && errors.Is(err, data.ErrCannotEdit)
		if !refused {
			require.NoError(t, err, what)
			added++
			says(changed, value.Put(before, path, v))
			requireInserted(t, text, changed, what)
		}

		changed, err = data.Remove(file, d.format, e.path)
		if errors.Is(err, data.ErrCannotEdit) && (!e.whole || strings.Contains(text, "|+")) {
			continue
		}
		require.NoError(t, err, what)
		removed++
		d.requireTaken(t, text, changed, e.path, what)
	}
	require.Greater(t, replaced, rounds*3/4)
	require.Greater(t, added, rounds*9/10)
	require.Greater(t, removed, rounds*3/4)
}

// requireInserted checks that a text is another with something put in, and perhaps a comma before that, but for spaces.
func requireInserted(t *testing.T, text, changed, what string) {
	n := 0
	for n < len(text) && n < len(changed) && text[n] == changed[n] {
		n++
	}
	for at := n; at >= 0; at-- { // what is put in may begin as what is after it does
		rest := strings.TrimLeft(text[at:], " ")
		if strings.HasSuffix(changed[at:], rest) && len(changed)-at >= len(rest) {
			return
		}
	}
	if n < len(changed) && changed[n] == ',' {
		requireInserted(t, text, changed[:n]+changed[n+1:], what)
		return
	}
	require.Fail(t, "the rest does not stay", "%s\n->\n%s", what, changed)
}

// requireTaken checks that a text is another without an entry, or a record that held nothing else, and the rest of its
// last line, but for spaces and commas.
func (d *drawn) requireTaken(t *testing.T, text, changed string, path []string, what string) {
	squeezed := strings.NewReplacer(" ", "", "\n", "", ",", "", "\t", "")
	for n := len(path); n > 0; n-- {
		at := slices.IndexFunc(d.entries, func(e drawnEntry) bool { return slices.Equal(e.path, path[:n]) })
		if at < 0 {
			continue
		}
		e := d.entries[at]
		from, to := e.key, e.end
		if e.line >= 0 {
			rest, _, _ := strings.Cut(text[to-1:], "\n")
			from, to = e.line, to-1+max(1, len(rest))
		}
		if squeezed.Replace(text[:from]+text[to:]) == squeezed.Replace(changed) {
			return
		}
	}
	require.Fail(t, "not the entry alone was taken out", "%s\n->\n%s", what, changed)
}
