package command

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// hiding are expressions that would tell something of a secret if it decided about what is shown, beside ones that
// tell nothing of it.
var hiding = []string{
	`pin`, `text.length(pin)`, `pin == "a"`, `pin == null`, `pair.kind`, `if pin == "a" then 1 else 2`,
	`match pair.kind { "a" -> 1, "b" -> 2 }`, `match pair { is { a: "kind", kind: string } -> 1, else -> 2 }`,
	`[pin, host][0]`, `[pin, host][1]`, `list.length([pin, host])`, `record.keys(pair)`, `record.length(u)`,
	`{ ...pair, x: 1 }.x`, `{ x: pin, y: host }.y`, `p.seen`, `p.kept`, `p.count`, `pin ?? host`,
	`for c in [pin, host] -> 1`, `list.length(for c in [pin, host] if c != "a" -> c)`, `u`, `u.a`, `"no" in u`,
	`u is { a: "a" }`, `text.split(pin, "a")`, `list.length(text.split(pin, "a"))`, `encode.json({ a: pin, b: host })`,
	`hash.short(pin, 8)`, `pair is { a: "kind", kind: string }`, `(patch { a: pin, b: host } { put .b: pin }).b`,
	`(patch { a: pin, b: host } { put .c: host }).b`, `list.sort([pin, host])`, `list.distinct([pin, pin, host])`,
	`list.length(list.distinct([pin, host]))`, `list.fold([pin], 0, fn(n, x) = n + 1)`, `"${pin}-${host}"`,
	`{ a: host, ...(if pin == "a" then { b: 1 }) }`, `{ x: 1 } with { y: pin }`, `list.index_of(["a", "b"], pin)`,
	`{ a: 1, b: 2 }[pair.kind]`, `[1, 2][text.length(pair.kind) - 1]`, `list.repeat(1, text.length(pin))`,
	`text.lines(pin)`, `decode.json(encode.json({ a: pin })) is { a: "a" }`, `list.any([pin], fn(x) = x == "a")`,
	`record.merge(pair, { b: host })`, `list.max([text.length(pin), 1])`, `deep[.**.a]`, `list.length(deep[.**.a])`,
}

// unseenProject writes a random project about two secrets: a union, a component, patches of documents, and what of
// hiding is to be seen and what is to be kept.
func unseenProject(r *rand.Rand) map[string]string {
	any := func() string {
		if r.IntN(4) > 0 {
			return "host" // else few projects would be right
		}
		return hiding[r.IntN(len(hiding))]
	}
	one := func(of ...string) string { return of[r.IntN(len(of))] }
	var b strings.Builder
	fmt.Fprintf(&b, "use \"./part.knot\" as part\nsecret input pin: string\n"+
		"secret input pair: { a: string, kind: \"a\" | \"b\" }\ninput host: string = \"bench\"\n"+
		"type U = { a: %s } | { a: %s, no: int = 1 }\nlet u: U = { a: %s }\n"+
		"let deep = { x: { a: %s }, y: [{ a: host }] }\nlet p = part(token: %s, host: host)\n", one("string", `"a"`, "any"), one("string", `"b"`, "any"),
		one("host", "pin", `"${pin}"`), one("pin", "host"), one("pin", "pair.a", "host"))
	for i := range r.IntN(3) {
		fmt.Fprintf(&b, "output o%d = %s\n", i, any())
	}
	fmt.Fprintf(&b, "document \"plain.yaml\" = { host: host, n: %s }\n", one("1", "host", any()))
	fmt.Fprintf(&b,
		"secret document \"all.yaml\" = { pin: pin, pair: pair, u: u, a: %s, b: %s, deep: deep, p: p.kept }\n",
		any(), any())
	if r.IntN(3) == 0 {
		fmt.Fprintf(&b, "patch all documents { put .m: %s }\n", any())
	}
	return map[string]string{
		"main.knot": b.String(),
		"part.knot": "secret input token: string\ninput host: string\nsecret output kept = { t: token, h: host }\n" +
			"output seen = " + one("host", "host", "host", "host", "text.length(host)", "token") + "\noutput count = " +
			one("1", "1", "1", "list.length([token, host])", "list.length([token, host])", "text.length(token)") + "\n",
		"south.yaml": "host: quay\n",
		"knothole.toml": "[environments.north]\nsecrets = SECRETS\n[environments.south]\n" +
			"layers = [\"south.yaml\"]\nsecrets = SECRETS\n",
	}
}

// took is what a run says that differs from run to run.
var took = regexp.MustCompile(`\(\d+\.\d\d s\)`)

// unseen runs each command on a project with some secrets, and returns what can be seen of each, and what was kept.
func unseen(t *testing.T, files map[string]string, secrets map[string]string) (seen map[string]string, kept string) {
	t.Helper()
	folder, given := t.TempDir(), t.TempDir()
	sources := `{ pin = { variable = "KNOTHOLE_SECRET_PIN" }, pair = { a = { variable = "KNOTHOLE_SECRET_A" }, ` +
		`kind = { variable = "KNOTHOLE_SECRET_KIND" } } }`
	for name, text := range files {
		text = strings.ReplaceAll(text, "SECRETS", sources)
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	var inputs []string
	for _, name := range slices.Sorted(maps.Keys(secrets)) {
		file := filepath.Join(given, name)
		require.NoError(t, os.WriteFile(file, []byte(secrets[name]), 0o600))
		inputs = append(inputs, "--input", name+"=@"+file)
		t.Setenv("KNOTHOLE_SECRET_"+strings.ToUpper(strings.TrimPrefix(name, "pair.")), secrets[name])
	}
	seen = map[string]string{}
	for _, line := range []string{
		"check", "check north", "check north --format json", "render --secrets", "render --secrets --stdout",
		"render north --secrets --stdout", "render --secrets --annotate", "check --rendered", "why north plain.yaml n",
		"why north all.yaml a",
		"why north all.yaml u.a --format json", "outputs north", "outputs north --format json", "inputs north",
		"inputs north --format json", "diff north south", "diff north south --format json", "look a", "look n", "test",
	} {
		arguments := strings.Fields(line)
		for _, c := range commands {
			if c.name == arguments[0] && hasFlag(c, "input") && len(arguments) > 1 && arguments[1] == "north" {
				arguments = append(arguments, inputs...)
			}
		}
		var out, err bytes.Buffer
		Main(arguments, &system{in: strings.NewReader(""), out: &out, err: &err, folder: folder, width: 120})
		said := strings.ReplaceAll(took.ReplaceAllString(out.String()+err.String(), "(… s)"), given, "GIVEN")
		require.NotContains(t, said, "usage: knothole", line)
		require.NotContains(t, said, "a bug in knothole", "%s\n%s\n%s", line, files["main.knot"],
			files["part.knot"])
		seen[line] = said
		for name, text := range tree(t, folder) {
			if strings.HasPrefix(name, ".knothole/secret/") {
				kept += text
			} else {
				seen[line+" wrote "+name] = text
			}
		}
	}
	return seen, kept
}

// TestNothingSeenOfSecrets checks that whatever the secrets are, each command shows and writes the same, but for what
// it writes into the directory of secrets.
func TestNothingSeenOfSecrets(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	rounds, written := uint64(30), 0
	for seed := range rounds {
		files := unseenProject(rand.New(rand.NewPCG(seed, 5)))
		first, kept := unseen(t, files, map[string]string{"pin": "a", "pair.a": "kind", "pair.kind": "a"})
		for _, secrets := range []map[string]string{
			{"pin": "zzz", "pair.a": "a", "pair.kind": "b"}, {"pin": "bench", "pair.a": "kind-of", "pair.kind": "a"},
		} {
			second, other := unseen(t, files, secrets)
			for _, what := range slices.Sorted(maps.Keys(first)) {
				require.Equal(t, first[what], second[what], "seed %d, %s\n%s\n%s", seed, what, files["main.knot"],
					files["part.knot"])
			}
			require.Equal(t, len(first), len(second), "seed %d", seed)
			if kept != other {
				written++
			}
		}
	}
	require.Greater(t, written, 10, "some projects write secrets")
	t.Logf("%d of %d projects wrote secrets", written/2, rounds)
}
