// Command mutants breaks conditions of the program, one after the other, and runs the tests of the package that each
// is in: one of them must fail. It prints those that live, which are conditions that no test beside them holds. The
// files of the program stay as they are: the compiler is given another text in the place of one. Run it with: go run
// ./mutants (in bench), or with the numbers of mutants, for these alone.
package main

import (
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// root is the directory of the program, seen from that of the measurements.
const root = ".."

// apply returns the file with the mutant in it. The error says why the mutant is out of date.
func (m *mutant) apply(root string) (string, error) {
	text, err := os.ReadFile(filepath.Join(root, m.file))
	if err != nil {
		return "", err
	}
	set := token.NewFileSet()
	tree, err := parser.ParseFile(set, m.file, text, 0)
	if err != nil {
		return "", err
	}
	for _, d := range tree.Decls {
		f, ok := d.(*ast.FuncDecl)
		if !ok || nameOf(f) != m.function {
			continue
		}
		from, to := set.Position(f.Pos()).Offset, set.Position(f.End()).Offset
		body := string(text[from:to])
		if strings.Count(body, m.old) != 1 {
			return "", fmt.Errorf("%s has the text of mutant %d %d times, not once", m.function, m.number,
				strings.Count(body, m.old))
		}
		broken := string(text[:from]) + strings.Replace(body, m.old, m.new, 1) + string(text[to:]) +
			"\nconst broken = true\n"
		if _, err := parser.ParseFile(token.NewFileSet(), m.file, broken, 0); err != nil {
			return "", fmt.Errorf("mutant %d does not compile: %w", m.number, err)
		}
		return broken, nil
	}
	return "", fmt.Errorf("%s has no function %s, for mutant %d", m.file, m.function, m.number)
}

// nameOf returns the name of a function, with the type of its receiver.
func nameOf(f *ast.FuncDecl) string {
	if f.Recv == nil {
		return f.Name.Name
	}
	of := f.Recv.List[0].Type
	if star, ok := of.(*ast.StarExpr); ok {
		of = star.X
	}
	if name, ok := of.(*ast.Ident); ok {
		return name.Name + "." + f.Name.Name
	}
	return f.Name.Name
}

// killed reports whether a test of the package fails with the mutant, and what the tests said.
func (m *mutant) killed(folder string) (bool, string, error) {
	text, err := m.apply(root)
	if err != nil {
		return false, "", err
	}
	name := filepath.Join(folder, fmt.Sprintf("%d.go", m.number))
	if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
		return false, "", err
	}
	at, err := filepath.Abs(filepath.Join(root, m.file))
	if err != nil {
		return false, "", err
	}
	overlay, err := json.Marshal(map[string]map[string]string{"Replace": {at: name}})
	if err != nil {
		return false, "", err
	}
	file := filepath.Join(folder, "overlay.json")
	if err := os.WriteFile(file, overlay, 0o600); err != nil {
		return false, "", err
	}
	test := exec.Command("go", "test", "-vet=off", "-overlay", file, "./"+filepath.ToSlash(filepath.Dir(m.file)))
	test.Dir = root
	said, err := test.CombinedOutput()
	if strings.Contains(string(said), "[build failed]") {
		return false, "", fmt.Errorf("mutant %d does not compile: %s", m.number, said)
	}
	return err != nil, string(said), nil
}

func main() {
	folder, err := os.MkdirTemp("", "mutants-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	defer os.RemoveAll(folder)
	start, live, tried := time.Now(), 0, 0
	for i := range mutants {
		m := &mutants[i]
		if len(os.Args) > 1 && !slices.Contains(os.Args[1:], strconv.Itoa(m.number)) {
			continue
		}
		dead, _, err := m.killed(folder)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		tried++
		state := "killed"
		if !dead {
			live++
			state = "LIVES"
		}
		fmt.Printf("%2d %-6s  %s, %s: %s\n", m.number, state, m.file, m.function, m.breaks)
	}
	fmt.Printf("%d of %d mutants are killed by a test of their package (%d s)\n", tried-live, tried,
		int(time.Since(start).Seconds()))
	if live > 0 {
		os.Exit(1)
	}
}
