package core_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
)

// canary stands for a secret that somebody wrote into a layer.
const canary = "CANARY"

var secretLayers = map[string][]string{
	"yaml": {
		"host: a\napi_token: CANARY\n",
		"api_token: \"CANARY\"\nhost: a\n",
		"mail: { host: a, password: CANARY }\n",
		"mail:\n  host: a\n  password: CANARY\n",
		"mail:\n  password: |\n    CANARY\n    CANARY\n  host: a\nhost: b\n",
		"mails:\n  - host: a\n    password: CANARY\n  - { host: b, password: CANARY }\n",
		"by:\n  x: { host: a, password: 'CANARY' }\nhost: a\n",
	},
	"json": {
		`{"host": "a", "api_token": "CANARY"}`,
		"{\n  \"mail\": {\n    \"host\": \"a\",\n    \"password\": \"CANARY\"\n  }\n}\n",
		`{"mails": [{"host": "a", "password": "CANARY"}], "by": {"x": {"host": "a", "password": "CANARY"}}}`,
	},
	"toml": {
		"host = \"a\"\napi_token = \"CANARY\"\n",
		"mail = { host = \"a\", password = \"CANARY\" }\n",
		"[mail]\nhost = \"a\"\npassword = \"CANARY\"\n",
		"[[mails]]\nhost = \"a\"\npassword = 'CANARY'\n[by.x]\nhost = \"a\"\npassword = \"CANARY\"\n",
	},
}

// mistyped changes a layer in one or two places, as somebody may who types: a mark or a letter of a key is left out,
// written twice or another one; never in the secret.
func mistyped(r *rand.Rand, text string) string {
	for range r.IntN(3) {
		at := r.IntN(len(text))
		near := strings.LastIndex(text[:min(len(text), at+len(canary))], canary)
		if near >= 0 && near <= at && at <= near+len(canary) {
			continue
		}
		marks := ":=\"'{}[], \n-#|&*!x"
		switch r.IntN(3) {
		case 0:
			text = text[:at] + text[at+1:]
		case 1:
			text = text[:at] + string(marks[r.IntN(len(marks))]) + text[at:]
		default:
			text = text[:at] + text[at:at+1] + text[at:]
		}
		if text == "" {
			return " "
		}
	}
	return text
}

// showsNothing holds for one damaged layer that nothing that is found or shown holds the secret.
func showsNothing(t *testing.T, seed uint64) {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 2))
	format := []string{"yaml", "json", "toml"}[r.IntN(3)]
	layer := mistyped(r, secretLayers[format][r.IntN(len(secretLayers[format]))])
	p, err := project.Load(fstest.MapFS{
		project.FileName: {Data: []byte("[environments.bench]\nlayers = [\"l." + format + "\"]\n")},
		"main.knot": {Data: []byte("type M = { host: string, secret password: string }\n" +
			"secret input api_token: string\ninput host: string = \"x\"\ninput mail: M\n" +
			"input mails: [M] = []\ninput by: { *: M } = {}\n")},
		"l." + format: {Data: []byte(layer)},
	})
	require.NoError(t, err)
	_, findings, _ := render.All(p, p.Runs(p.Concrete()), render.Options{})
	shown := func(where, text string) {
		require.NotContains(t, text, canary, "seed %d, %s:\n%s", seed, where, layer)
	}
	place := func(at source.Pos) {
		if l := p.Sources.Locate(at); l.File != nil && !l.File.Hidden(l.Line) {
			shown(fmt.Sprintf("line %d", l.Line), l.File.Line(l.Line))
		}
	}
	for _, f := range findings {
		shown("message", f.Message)
		shown("help", f.Help)
		place(f.Span.Start)
		for _, related := range f.Related {
			shown("related", related.Text)
		}
	}
	run := p.Run(p.Concrete()[0])
	w := run.World(false)
	for _, in := range p.InputsOf(p.Unit().Module) {
		s := run.Settings(w, in)
		shown("value", s.Value.Show(1000))
		for _, one := range s.All {
			shown("setting", one.Value.Show(1000))
		}
	}
}

// FuzzMistakenSecrets: however a secret gets into a layer, nothing shows it.
func FuzzMistakenSecrets(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { showsNothing(t, seed) })
}

// TestMistakenSecrets is a part of what FuzzMistakenSecrets tries.
func TestMistakenSecrets(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	for seed := range uint64(3000) {
		showsNothing(t, seed)
	}
}
