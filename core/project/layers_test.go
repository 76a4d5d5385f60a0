package project_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
	"knothole/core/source"
)

// codesOf returns the codes of the errors of a project and of the layers of an environment.
func codesOf(p *project.Project, environment string) (codes []source.Code) {
	findings := p.Findings
	if e := p.Environment(environment); e != nil {
		findings = append(findings, p.CheckLayers([]*project.Run{p.Run(e)})...)
	}
	for _, f := range findings {
		if f.Severity == source.Error {
			codes = append(codes, f.Code)
		}
	}
	return codes
}

// TestNullInLayers holds what null means over weaker layers: a value where the type has null, taken away where the
// entry may be absent, and "not given here" elsewhere.
func TestNullInLayers(t *testing.T) {
	p := load(t, map[string]string{
		project.FileName: "[environments.north]\nlayers = [\"weak.yaml\", \"strong.yaml\"]\n",
		"weak.yaml": "r: { name: a, tier: x, note: y }\nm: { a: 1, b: 2 }\nn: 1\no: 1\n" +
			"k: { a: null }\n",
		"strong.yaml": "r: { name: null, tier: null, note: null, zone: null }\nm: { a: null }\nn: null\no: null\n" +
			"k: { a: 1 }\n",
		"main.knot": "input r: { name: string, tier?: string, note: string?, zone: string = \"z\" }\n" +
			"input m: { *: int }\ninput n: int\ninput o: int?\ninput k: { *: int }\noutput v = [r, m, n, o, k]\n",
	})
	run := p.RunNamed("north")
	require.Empty(t, codesOf(p, "north"))
	require.Equal(t, `[{"name":"a","note":null,"zone":"z"},{"b":2},1,null,{"a":1}]`, output(run, "v"))
	require.True(t, run.AllLayers().TakenAway([]string{"m", "a"}).IsValid())
	require.False(t, run.AllLayers().TakenAway([]string{"m", "b"}).IsValid())
	require.False(t, run.AllLayers().TakenAway([]string{"k", "a"}).IsValid(), "a stronger layer gives it again")
}

// TestNullWithoutWeaker checks that null for what must have a value gives it none.
func TestNullWithoutWeaker(t *testing.T) {
	p := load(t, map[string]string{
		project.FileName: "[environments.north]\nlayers = [\"a.yaml\"]\n", "a.yaml": "r: { name: null, zone: null }\n",
		"main.knot": "input r: { name?: string, zone: string = \"z\", *: any }\noutput keys = record.keys(r)\n",
	})
	require.Equal(t, `["zone"]`, output(p.RunNamed("north"), "keys"))
}

// TestMissingBesideBrokenLayer checks that no input is reported as missing while a layer that may give it cannot be
// read.
func TestMissingBesideBrokenLayer(t *testing.T) {
	p := load(t, map[string]string{
		project.FileName: "[environments.north]\nlayers = [\"a.yaml\"]\n[environments.south]\n", "a.yaml": "n: [\n",
		"main.knot": "input n: int\noutput o = n\n",
	})
	require.NotContains(t, codesOf(p, "north"), source.MissingInput)
	require.Contains(t, codesOf(p, "north"), source.BadData)
	require.Contains(t, codesOf(p, "south"), source.MissingInput)
}

// TestSecretsOfLayers checks that a secret input takes nothing from a layer, which is an error there.
func TestSecretsOfLayers(t *testing.T) {
	p := load(t, map[string]string{
		project.FileName: "[environments.north]\nlayers = [\"a.yaml\"]\n", "a.yaml": "pin: \"0412\"\n",
		"main.knot": "secret input pin: string? = null\nsecret output n = pin\n",
	})
	require.NotEmpty(t, codesOf(p, "north"))
	for _, a := range p.RunNamed("north").Assignments() {
		require.True(t, a.Value.IsAbsent(), "%s is %s", a.Input.Name, a.Value.Show(40))
	}
}

// TestReferences holds what a secret may be read from: hosts over TLS, and files that no link leads into a directory of
// git or of the program.
func TestReferences(t *testing.T) {
	folder := t.TempDir()
	for name, text := range map[string]string{".git/token": "x", "plain/token": "x",
		"main.knot": "secret input s: string\nsecret output o = s\n"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	require.NoError(t, os.Symlink(".git/token", filepath.Join(folder, "linked")))
	require.NoError(t, os.Symlink(".git", filepath.Join(folder, "inner")))
	require.NoError(t, os.Symlink("plain/token", filepath.Join(folder, "right")))
	for reference, accepted := range map[string]bool{
		`{ url = "https://store.floodwatch.example/s" }`: true, `{ url = "http://store.floodwatch.example/s" }`: false,
		`{ url = "ftp://store.floodwatch.example/s" }`: false, `{ file = "plain/token" }`: true,
		`{ file = "right" }`: true, `{ file = "linked" }`: false, `{ file = "inner/token" }`: false,
		`{ file = ".git/token" }`: false, `{ file = "../token" }`: false,
		`{ variable = "KNOTHOLE_SECRET_S" }`: true,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, project.FileName), []byte("[environments.north]\n"+
			"[environments.north.secrets]\ns = "+reference+"\n"), 0o600))
		p, err := project.Load(os.DirFS(folder))
		require.NoError(t, err)
		require.Equal(t, accepted, !p.Findings.HasErrors(), "%s: %v", reference, p.Findings)
	}
}
