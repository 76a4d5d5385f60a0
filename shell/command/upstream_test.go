package command

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// upstreamStages are environments of which each reads the outputs of the one before, with their main modules.
var upstreamStages = []struct{ name, module string }{
	{"net", "input mtu: int = 1500 where it in 100..9000\ninput zone: string\nlater input lb: string? as \"<lb>\"\n" +
		"type Site = { name: string, depth: int = 1 }\ninput sites: { *: Site } = {}\n" +
		"require mtu != 1313 else \"no such mtu\"\n" +
		"output size = mtu\noutput zone_name = \"z-${zone}\"\noutput address = lb\noutput names = sites\n"},
	{"mid", "input net: { size: int, zone_name: string, address: string?, names: any }\ninput scale: int = 2\n" +
		"input label: string\nrequire scale < 50 else \"too much\"\n" +
		"output total = net.size * scale\noutput label_of = \"${label}-${net.zone_name}\"\noutput address = net.address\n"},
	{"app", "input mid: { total: int, label_of: string, address: string?, *: any }\ninput copies: int = 1\n" +
		"document \"app.yaml\" = { v: mid.total, l: mid.label_of, a: mid.address, n: copies }\noutput v = mid.total\n"},
}

// upstreamSecrets are what the modules have beside, in rounds with a secret: it goes from the first to the last.
var upstreamSecrets = map[string][2]string{
	"net": {"", "secret input token: string\nsecret output key = token\n"},
	"mid": {"secret key: string, ", "secret output key = net.key\n"},
	"app": {"secret key: string, ", "secret document \"key.env\" = { KEY: mid.key }\n"},
}

// upstreamCanary is the secret. Nothing that a command prints may hold it.
const upstreamCanary = "CANARYup7stream"

// breakage is something wrong in a layer: the lines that are added to it, and what must be named.
type breakage struct{ what, yaml, toml, says string }

var breakages = []breakage{
	{"not readable", "\"x: [\n", "x = [\n", "FILE:"},
	{"twice", "twice: 1\ntwice: 2\n", "twice = 1\ntwice = 2\n", "FILE:"},
	{"unknown", "mtuu: 1\n", "mtuu = 1\n", "FILE:"},
	{"not known at all", "quite_other: 1\n", "quite_other = 1\n", "FILE:"},
	{"a list", "- 1\n", "", "FILE:"},
	{"not text", "\xff\xfe\x00\n", "\xff\n", "FILE"},
}

// secretBreakage is a secret where none may be.
var secretBreakage = breakage{"a secret", "token: " + upstreamCanary + "\n", "token = \"" + upstreamCanary + "\"\n", "FILE:"}

// upstreamValues are values of an environment that are wrong by themselves.
var upstreamValues = map[string][]string{
	"net": {"mtu: \"x\"", "mtu: 5", "mtu: 1313", "zone: 5", "zone: null", "sites: { a: { depth: 3 } }", "sites: { a: 3 }",
		"lb: 7"},
	"mid": {"scale: x", "scale: 70", "label: []", "label: null"},
	"app": {"copies: x", "copies: []"},
}

// brokenUpstream makes a project in which one layer of one environment is wrong, and checks that each command that
// needs that environment fails and names the layer, whichever environment it was asked for.
func brokenUpstream(t *testing.T, seed uint64) {
	t.Helper()
	random := rand.New(rand.NewPCG(seed, 26))
	folder, given := t.TempDir(), t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	good := map[string][]string{"net": {"zone: \"a\"", "mtu: 9000"}, "mid": {"label: \"b\""}, "app": {"copies: 2"}}
	at := random.IntN(3)
	broken := upstreamStages[at].name
	layers := map[string]string{} // their texts
	var toml strings.Builder
	secret := random.IntN(3) // none, one that may be read, one that is missing
	if secret == 1 {
		t.Setenv("KNOTHOLE_SECRET_UP", upstreamCanary)
	} else {
		t.Setenv("KNOTHOLE_SECRET_UP", "")
	}
	for i, stage := range upstreamStages {
		module := stage.module
		if secret > 0 {
			module = strings.Replace(module, ": { ", ": { "+upstreamSecrets[stage.name][0], 1) + upstreamSecrets[stage.name][1]
			if stage.name == "net" {
				module = stage.module + upstreamSecrets["net"][1]
			}
		}
		write(stage.name+".knot", module)
		var names []string
		for j, line := range good[stage.name] {
			ending := []string{"yaml", "toml"}[random.IntN(2)]
			if ending == "toml" {
				line = strings.Replace(line, ": ", " = ", 1)
			}
			name := fmt.Sprintf("%s%d.%s", stage.name, j, ending)
			layers[name] = line + "\n"
			names = append(names, fmt.Sprintf("%q", name))
		}
		if random.IntN(2) == 0 { // some of them by way of an abstract environment
			fmt.Fprintf(&toml, "[environments.base-%s]\nabstract = true\nlayers = [%s]\n", stage.name, names[0])
			names = names[1:]
			fmt.Fprintf(&toml, "[environments.%s]\nextends = \"base-%s\"\n", stage.name, stage.name)
		} else {
			fmt.Fprintf(&toml, "[environments.%s]\n", stage.name)
		}
		if i > 0 {
			names = append(names, fmt.Sprintf("{ environment = %q, into = %q }", upstreamStages[i-1].name,
				upstreamStages[i-1].name))
		}
		fmt.Fprintf(&toml, "main = \"%s.knot\"\nlayers = [%s]\n", stage.name, strings.Join(names, ", "))
	}
	if secret > 0 {
		toml.WriteString("[environments.net.secrets]\ntoken = { variable = \"KNOTHOLE_SECRET_UP\" }\n")
	}
	write("knothole.toml", "[project]\nname = \"bay\"\nmain = \"app.knot\"\n"+toml.String())
	var own []string
	for name := range layers {
		if strings.HasPrefix(name, broken) {
			own = append(own, name)
		}
	}
	slices.Sort(own)
	file := own[random.IntN(len(own))]
	var flags []string
	says, what := "FILE:", ""
	breaks := breakages[random.IntN(len(breakages))]
	if secret > 0 && broken == "net" && random.IntN(3) == 0 {
		breaks = secretBreakage
	}
	change := func(text, ending string) string {
		if ending == "toml" {
			return text + breaks.toml
		}
		return breaks.yaml + text
	}
	runs := random.IntN(3) // of the project; of a file given for one run; with --later
	switch {
	case random.IntN(2) == 0 || runs == 2 && broken != "net":
		runs, what, says = 0, breaks.what, breaks.says
		if strings.HasSuffix(file, "toml") && breaks.toml == "" {
			return
		}
		layers[file] = change(layers[file], strings.TrimPrefix(filepath.Ext(file), "."))
	case runs > 0:
		name := "given.yaml"
		text := breaks.yaml
		what, says, file = breaks.what, breaks.says, name
		require.NoError(t, os.WriteFile(filepath.Join(given, name), []byte(text), 0o600))
		flag := []string{"", "--layer", "--later"}[runs]
		if broken == "app" {
			flags = []string{flag, filepath.Join(given, name)}
		} else {
			flags = []string{flag, broken + ":" + filepath.Join(given, name)}
		}
	default:
		values := upstreamValues[broken]
		what = values[random.IntN(len(values))]
		name, _, _ := strings.Cut(what, ":")
		for other, text := range layers {
			if strings.HasPrefix(other, broken) && strings.HasPrefix(text, name) {
				file = other
			}
		}
		kept := layers[file] + what + "\n"
		if strings.HasPrefix(layers[file], name) {
			kept = what + "\n"
		}
		if layers[file] = kept; strings.HasSuffix(file, "toml") {
			kept = strings.ReplaceAll(kept, " = ", ": ")
			delete(layers, file)
			renamed := strings.TrimSuffix(file, "toml") + "yaml"
			write("knothole.toml", strings.ReplaceAll("[project]\nname = \"bay\"\nmain = \"app.knot\"\n"+toml.String(),
				file, renamed))
			file = renamed
			layers[file] = kept
		}
		if says = file + ":"; strings.HasSuffix(what, "null") {
			says = "\"" + name + "\"" // it has no value, which no line says
		}
	}
	for name, text := range layers {
		write(name, text)
	}
	says = strings.TrimPrefix(strings.ReplaceAll(says, "FILE", file), "./")
	// Which commands need the environment, and may be given something for one run.
	type line struct {
		text  string
		needs bool
		given bool
	}
	for _, l := range []line{
		{"check app", true, true}, {"check", true, false}, {"render app --stdout", true, true},
		{"render app", true, false}, {"outputs app", true, true}, {"outputs app v", true, true},
		{"look v app", true, true}, {"why app app.yaml v", true, true}, {"why app app.yaml l --format json", true, true},
		{"diff app app", true, false}, {"report --to page.html", false, false}, {"inputs app", false, false},
		{"inputs app --format json", false, false}, {"inputs", false, false}, {"inputs app --blank yaml", false, false},
		{"rules", false, false}, {"test", false, false}, {"set app copies=3", false, false},
		{"set app --fill", false, false}, {"new --environment other --like app", false, false},
		{"impact --input app:copies=5", false, false}, {"impact --input net:mtu=200", false, false},
		{"completion words why app ", false, false}, {"check app --format json", true, true},
		{"check app --format sarif", true, true}, {"drift app app0.yaml", false, false},
		{"render app --secrets --stdout", true, true}, {"render --secrets", true, false}, {"outputs net key", false, false},
		{"why app key.env KEY", false, false},
	} {
		arguments := strings.Fields(l.text)
		if len(flags) > 0 && l.given {
			arguments = append(arguments, flags...)
		} else if len(flags) > 0 {
			continue
		}
		var out, err bytes.Buffer
		status := Main(arguments, &system{in: strings.NewReader(""), out: &out, err: &err, folder: folder, width: 120})
		said := out.String() + err.String()
		label := fmt.Sprintf("seed %d, %s of %s: %s: knothole %s\n%s\n%s", seed, file, broken, what,
			strings.Join(arguments, " "), toml.String(), said)
		require.NotContains(t, said, "a bug in knothole", label)
		require.NotContains(t, said, upstreamCanary, label)
		if l.needs {
			require.NotZero(t, status, label)
			if strings.Contains(l.text, "--format") {
				require.Contains(t, said, strings.Trim(says, `":`), label)
			} else {
				require.Contains(t, said, says, label)
			}
		}
		if strings.HasPrefix(l.text, "set") || strings.HasPrefix(l.text, "new") { // which changes the files
			for name, text := range layers {
				write(name, text)
			}
			_ = os.RemoveAll(filepath.Join(folder, "inputs"))
			config, readErr := os.ReadFile(filepath.Join(folder, "knothole.toml"))
			require.NoError(t, readErr)
			if i := strings.Index(string(config), "[environments.other]"); i >= 0 {
				write("knothole.toml", string(config)[:i])
			}
		}
	}
}

// TestBrokenUpstream checks that whatever is wrong with an environment that another needs is reported at its line.
func TestBrokenUpstream(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	for seed := range rounds(25, 2000) {
		brokenUpstream(t, uint64(seed))
	}
}
