package builtin_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// inputs are what the laws are about.
const inputs = `
input s: string
input t: string
input u: string
input xs: [any]
input ys: [any]
input ns: [int]
input ms: [int]
input fs: [float]
input words: [string]
input r: { *: any }
input q: { *: any }
input net: string
input n: int
input k: int
input x: any
let whole = record.sort(r)
fn even(n: int) -> bool = n % 2 == 0
`

// laws are true whatever the inputs are.
var laws = []string{
	// Lists.
	`list.reverse(list.reverse(xs)) == xs`,
	`list.length(xs + ys) == list.length(xs) + list.length(ys)`,
	`list.map(xs, fn(x) = x) == xs`,
	`list.map(list.map(ns, fn(n) = n + 1), fn(n) = n - 1) == ns`,
	`list.sort(list.filter(ns, even) + list.filter(ns, fn(n) = not even(n))) == list.sort(ns)`,
	`list.length(list.filter(ns, even)) == list.count(ns, even)`,
	`list.fold(ns, 0, fn(sum, n) = sum + n) == list.sum(ns)`,
	`list.sum(ns + ms) == list.sum(ns) + list.sum(ms)`,
	`list.sort(list.sort(ns)) == list.sort(ns)`,
	`list.sort(list.reverse(ns)) == list.sort(ns)`,
	`list.sort(ns, fn(n) = -n) == list.reverse(list.sort(ns))`,
	`list.sort(words) == list.sort(list.reverse(words))`,
	`list.first(list.sort(ns)) == (if ns == [] then null else list.min(ns))`,
	`list.last(list.sort(ns)) == (if ns == [] then null else list.max(ns))`,
	`ns == [] or list.all(ns, fn(n) = n <= list.max(ns) and n >= list.min(ns))`,
	`list.distinct(list.distinct(xs)) == list.distinct(xs)`,
	`list.all(xs, fn(x) = list.contains(list.distinct(xs), x))`,
	`list.length(list.distinct(xs + xs)) == list.length(list.distinct(xs))`,
	`list.union(xs, ys) == list.distinct(xs + ys)`,
	`list.all(list.intersect(xs, ys), fn(x) = x in xs and x in ys)`,
	`list.all(list.difference(xs, ys), fn(x) = x in xs and x not in ys)`,
	`list.length(list.union(xs, ys)) == list.length(list.distinct(list.intersect(xs, ys))) +
		list.length(list.distinct(list.difference(xs, ys))) + list.length(list.distinct(list.difference(ys, xs)))`,
	`list.flatten([xs, ys, xs]) == xs + ys + xs`,
	`list.flatten(list.chunks(xs, n)) == xs`,
	`list.all(list.chunks(xs, n), fn(c) = list.length(c) <= n and c != [])`,
	`list.any(ns, even) == (not list.all(ns, fn(n) = not even(n)))`,
	`(list.find(ns, even) == null) == (list.count(ns, even) == 0)`,
	`list.slice(xs, 0, n) + list.slice(xs, n) == xs`,
	`list.length(list.zip(ns, words)) <= list.length(ns)`,
	`list.map(list.zip(ns, ns), fn(p) = p[0]) == ns`,
	`list.sort(list.flatten(record.values(list.group(ns, fn(n) = if even(n) then "e" else "o")))) == list.sort(ns)`,
	`record.keys(list.index(list.distinct(words), fn(w) = w)) == list.distinct(words)`,
	`list.length(list.repeat(x, n)) == n and list.all(list.repeat(x, n), fn(y) = y == x)`,
	// Records.
	`record.length(r) == list.length(record.keys(r))`,
	`record.of_entries(record.entries(r)) == r`,
	`list.map(record.entries(r), fn(e) = e.value) == record.values(r)`,
	`list.map(record.entries(r), fn(e) = e.key) == record.keys(r)`,
	`record.merge(r, {}) == r and record.merge({}, r) == r`,
	`record.merge(r, r) == r`,
	`list.all(record.keys(q), fn(k) = record.has(record.merge(r, q), k))`,
	`record.merge(record.merge(r, q), q) == record.merge(r, q)`,
	`record.merge(record.pick(r, words), record.omit(r, words)) == r`,
	`record.length(record.pick(r, words)) + record.length(record.omit(r, words)) == record.length(r)`,
	`record.map_values(r, fn(v) = v) == r`,
	`record.map_keys(r, fn(k) = k) == r`,
	`record.keys(record.map_keys(r, fn(k) = k + "!")) == list.map(record.keys(r), fn(k) = k + "!")`,
	`record.filter(r, fn(k, v) = true) == r and record.filter(r, fn(k, v) = false) == {}`,
	`record.keys(whole) == list.sort(record.keys(r)) and whole == r`,
	`list.all(record.keys(r), fn(k) = record.get(r, k) == r[k] and record.follow(r, [k]) == r[k])`,
	`record.get(r, "no such key", 7) == 7`,
	`record.flatten(record.flatten(r, "|"), "|") == record.flatten(r, "|")`,
	// Text.
	`text.length(s + t) == text.length(s) + text.length(t)`,
	`text.upper(text.upper(s)) == text.upper(s) and text.lower(text.lower(s)) == text.lower(s)`,
	`text.trim(text.trim(s)) == text.trim(s)`,
	`text.trim_prefix(s + t, s) == t and text.trim_suffix(s + t, t) == s`,
	`text.starts(s + t, s) and text.ends(s + t, t) and text.contains(s + t + u, t)`,
	`t == "" or text.join(text.split(s, t), t) == s`,
	`text.join(text.lines(s + t), "\n") == text.trim_suffix(s + t, "\n")`,
	`t == "" or text.contains(s, t) or text.replace_found("${s}|${t}|${s}", t, u) == "${s}|${u}|${s}"`,
	`t == "" or text.replace_found(s + t, t, t) == s + t`,
	`t == "" or text.contains(t, "$") or text.replace(s + t, t, u) == text.replace_found(s + t, t, u)`,
	`text.replace_once(s + "|" + s, "|", u) == s + u + s`,
	`text.replace_pattern(s, '^', "") == s`,
	`text.contains(s, "a") == (text.find(s, 'a') != null)`,
	`list.length(text.find_all(s, 'a')) == list.length(text.split(s, "a")) - 1`,
	`text.length(text.pad_left(s, n)) == math.max(n, text.length(s)) and text.ends(text.pad_left(s, n), s)`,
	`text.length(text.pad_right(s, n)) == math.max(n, text.length(s)) and text.starts(text.pad_right(s, n), s)`,
	`text.repeat(s, n + 1) == text.repeat(s, n) + s`,
	`text.slice(s, 0, n) + text.slice(s, n) == s`,
	`text.dedent(text.dedent(s)) == text.dedent(s)`,
	`text.length(text.indent(s, "  ")) >= text.length(s)`,
	`text.starts(text.quote_shell(s), "'") or text.quote_shell(s) == s`,
	`text.snake(text.snake(s)) == text.snake(s) and text.kebab(text.kebab(s)) == text.kebab(s)`,
	`text.replace(text.snake(s), "_", "-") == text.kebab(s)`,
	`text.camel(text.snake("tideGauge${n}")) == "tideGauge${n}"`,
	// Forms.
	`decode.json(encode.json(x)) == x`,
	`decode.json(encode.json(x, 2)) == x`,
	`decode.yaml(encode.yaml(x)) == x`,
	`decode.toml(encode.toml({ s: s, ns: ns })) == { s: s, ns: ns }`,
	`decode.base64(encode.base64(s)) == s and decode.base64url(encode.base64url(s)) == s`,
	`decode.hex(encode.hex(s)) == s`,
	`encode.url(s) matches '^[A-Za-z0-9_.~%+-]*$'`,
	`text.lines(encode.env({ A: n, B: k })) == ["A=${n}", "B=${k}"]`,
	`hash.sha256(s) matches '^[0-9a-f]{64}$' and (hash.sha256(s) == hash.sha256(t)) == (s == t)`,
	`hash.crc32("123456789") == 3_421_780_262 and hash.crc32(s) in 0..4_294_967_295`,
	`text.length(hash.short(s, n)) == n and text.starts(hash.short(s, n + 1), hash.short(s, n))`,
	// Paths.
	`path.base("a/" + "b.c") == "b.c" and path.join(["a", path.base(s), "b"]) != ""`,
	`path.ext("a.b" + path.ext("x.yaml")) == ".yaml" and path.dir(path.join(["a", "b"])) == "a"`,
	// Addresses.
	`net.contains(net, net.subnet(net, net.parse(net).prefix + 2, k))`,
	`net.contains(net, net.address(net, n)) and net.overlaps(net, net.subnet(net, net.parse(net).prefix + 2, k))`,
	`net.merge(list.map(0..3, fn(i) = net.subnet(net, net.parse(net).prefix + 2, i))) == [net]`,
	`net.sort(net.sort(["10.0.0.9", "10.0.0.10"])) == net.sort(["10.0.0.10", "10.0.0.9"])`,
	`net.is_address(net.parse(net).first) and not net.is_address(s + " ") and not net.is_hostname(s + " ")`,
	// Versions and numbers.
	`version.compare("${n}.${k}.0", "${n}.${k}.1") == -1 and version.compare("1.${n}.0", "1.${k}.0") ==
		(if n < k then -1 else if n > k then 1 else 0)`,
	`version.parse("${n}.${k}.7").minor == k and version.satisfies("${n}.${k}.7", ">=${n}.${k}.0")`,
	`math.abs(-n) == math.abs(n) and math.abs(n - k) == math.max(n, k) - math.min(n, k)`,
	`list.all(fs, fn(f) = math.floor(f) <= f and math.ceil(f) >= f and math.ceil(f) - math.floor(f) <= 1)`,
	`list.all(fs, fn(f) = math.round(f) == math.floor(f) or math.round(f) == math.ceil(f))`,
	`list.all(ns, fn(i) = math.clamp(i, -5, 5) in -5..5 and (i not in -5..5 or math.clamp(i, -5, 5) == i))`,
	`math.pow(2, n) * math.pow(2, k) == math.pow(2, n + k)`,
	`list.all(ns, fn(i) = convert.int(convert.string(i)) == i)`,
	`list.all(fs, fn(f) = convert.float(convert.string(f)) == f and convert.float(convert.decimal(f)) == f)`,
	`list.all(ns, fn(i) = quantity.bytes(quantity.format_bytes(math.abs(i) * 1024)) == math.abs(i) * 1024)`,
	`quantity.bytes("${n}Ki") == n * 1024 and quantity.bytes("${n}k") == n * 1000`,
	`list.all(ns, fn(i) = quantity.millicores(quantity.format_millicores(math.abs(i))) == math.abs(i))`,
	`list.all(ns, fn(i) = time.parse(time.format(i * 86_399)) == i * 86_399)`,
	`list.all(ns, fn(i) = time.seconds(time.format_duration(math.abs(i) * 61)) == math.abs(i) * 61)`,
	`convert.bool(convert.string(true)) and not convert.bool(convert.string(false))`,
}

// TestEveryFunctionHasALaw compares the functions that laws call with all of them.
func TestEveryFunctionHasALaw(t *testing.T) {
	all := strings.Join(laws, "\n") + inputs
	for _, f := range builtin.All() {
		assert.True(t, strings.Contains(all, f.Group+"."+f.Name()+"("), "no law calls %s.%s", f.Group, f.Name())
	}
}

// random makes a value for an input of a type.
func random(r *rand.Rand, of string) value.Value {
	const letters = "ab cXÜ😀\n-_.${'\"1"
	text := func() value.Value {
		var b strings.Builder
		for range r.IntN(7) {
			runes := []rune(letters)
			b.WriteRune(runes[r.IntN(len(runes))])
		}
		return value.StringOf(b.String(), 0)
	}
	many := func(of string) value.Value {
		elements := make([]value.Value, r.IntN(6))
		for i := range elements {
			elements[i] = random(r, of)
		}
		return value.ListOf(elements, 0)
	}
	switch of {
	case "string":
		return text()
	case "int":
		return value.IntOf(int64(r.IntN(40)-15), 0)
	case "float":
		return value.FloatOf(float64(r.IntN(4000)-1500)/64, 0)
	case "small":
		return value.IntOf(int64(1+r.IntN(3)), 0)
	case "net":
		return value.StringOf(fmt.Sprintf("10.%d.%d.0/24", r.IntN(256), r.IntN(256)), 0)
	case "record":
		var keys []string
		var values []value.Value
		for range r.IntN(5) {
			if name := text().Text(); !slices.Contains(keys, name) {
				keys, values = append(keys, name), append(values, random(r, "any"))
			}
		}
		return value.RecordOf(value.NewShape(keys), values, 0)
	}
	switch r.IntN(8) {
	case 0:
		return value.NullOf(0)
	case 1:
		return value.BoolOf(r.IntN(2) == 0, 0)
	case 2:
		return random(r, "float")
	case 3:
		return many("any")
	case 4:
		return random(r, "record")
	case 5:
		return text()
	}
	return random(r, "int")
}

// TestLaws evaluates the laws for random inputs.
func TestLaws(t *testing.T) {
	var text strings.Builder
	text.WriteString(inputs)
	for i, law := range laws {
		fmt.Fprintf(&text, "let law%d: bool = %s\n", i, law)
	}
	rounds := 300
	if testing.Short() {
		rounds = 30
	}
	m, program := checked(t, text.String())
	p := eval.New(program, builtin.Table, nil, nil)
	broken := map[string]bool{}
	for seed := range uint64(rounds) {
		r := rand.New(rand.NewPCG(seed, 27))
		w := p.World(eval.Environment{Name: "bench"})
		var given []string
		for _, o := range m.Order {
			if o.Kind != check.ObjectInput {
				continue
			}
			v := random(r, kindOf(o.Name))
			if list, ok := listOf[o.Name]; ok {
				elements := make([]value.Value, r.IntN(6))
				for i := range elements {
					elements[i] = random(r, list)
				}
				v = value.ListOf(elements, 0)
			}
			given = append(given, fmt.Sprintf("%s = %s", o.Name, data.CompactJSON(v)))
			w.SetInput(o, v)
		}
		for i, law := range laws {
			holds, ok := w.Value(m.Objects[fmt.Sprintf("law%d", i)])
			if !broken[law] && !(ok && holds.Bool()) {
				broken[law] = true
				assert.Fail(t, law, "seed %d: %v\n%s", seed, w.Findings(), strings.Join(given, "\n"))
			}
		}
	}
}

var listOf = map[string]string{"xs": "any", "ys": "any", "ns": "int", "ms": "int", "fs": "float", "words": "string"}

func kindOf(input string) string {
	switch input {
	case "r", "q":
		return "record"
	case "n", "k":
		return "small"
	case "net":
		return "net"
	case "s", "t", "u":
		return "string"
	}
	return "any"
}

// checked checks a module that has no errors.
func checked(t *testing.T, text string) (*check.Module, *check.Program) {
	t.Helper()
	set := source.NewSet()
	file, err := set.Add("main.knot", []byte(text))
	require.NoError(t, err)
	m := &check.Module{Path: "main.knot", Tree: syntax.Parse(file), Main: true}
	for _, f := range m.Tree.Findings {
		require.Fail(t, f.Message, set.Locate(f.Span.Start))
	}
	program := &check.Program{Sources: set, Store: check.NewStore(), Modules: []*check.Module{m},
		Builtins: builtin.Table.Builtins}
	for _, f := range check.Check(program) {
		if f.Severity == source.Error {
			assert.Fail(t, f.Message, "%s %s", set.Locate(f.Span.Start), f.Help)
		}
	}
	require.False(t, t.Failed())
	return m, program
}

// TestExamples runs the example of every function in a module of its own and compares what it gives.
func TestExamples(t *testing.T) {
	for _, f := range builtin.All() {
		t.Run(f.Group+"."+f.Name(), func(t *testing.T) {
			require.NotEmpty(t, f.Description)
			require.Contains(t, f.Example, f.Group+"."+f.Name()+"(", "the example must call the function")
			m, program := checked(t, "output example = "+f.Example)
			w := eval.New(program, builtin.Table, nil, nil).World(eval.Environment{Name: "bench"})
			v, ok := w.Value(m.Objects["example"])
			require.True(t, ok, "%v", w.Findings())
			require.Equal(t, f.Result, data.CompactJSON(v))
		})
	}
}

// TestSignatures reads every signature.
func TestSignatures(t *testing.T) {
	u := types.NewUniverse()
	for _, f := range builtin.All() {
		o := check.Signature(u, f.Signature)
		require.NotNil(t, o.Type, f.Signature)
		require.Equal(t, f.Name(), f.Signature[:strings.IndexByte(f.Signature, '(')])
		for _, p := range o.Parameters {
			require.NotEqual(t, types.Invalid, p.Type, f.Signature)
		}
	}
}
