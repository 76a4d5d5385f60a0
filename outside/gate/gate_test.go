package gate_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"knothole/outside/gate"
)

// opening are the functions that reach a file, by the package that has them. What they are about does not matter: all
// of them go through the gate.
var opening = map[string][]string{
	"os": {"Open", "OpenFile", "ReadFile", "WriteFile", "Create", "CreateTemp", "Mkdir", "MkdirAll", "MkdirTemp",
		"Rename", "Remove", "RemoveAll", "ReadDir", "DirFS", "OpenRoot", "OpenInRoot", "Stat", "Lstat", "Readlink",
		"Symlink", "Link", "Chmod", "Chown", "Chtimes", "Truncate", "CopyFS", "NewFile", "Chdir"},
	"path/filepath": {"Walk", "WalkDir", "Glob", "EvalSymlinks"},
	"io/ioutil":     nil,
	"syscall":       nil,
	"plugin":        nil,
	"os/exec":       nil,
}

// allowed are the files that may use a package of these all the same, and why.
var allowed = map[string]string{
	"outside/repository/repository.go os/exec": "asks git",
	"outside/repository/tree.go os/exec":       "reads what git prints",
	"outside/folder/disk.go syscall":           "tells errors apart",
	"outside/secrets/secrets.go syscall":       "tells errors apart",
	"outside/caseless/caseless.go os":          "is for tests only",
	"outside/caseless/caseless.go os/exec":     "is for tests only",
}

// TestNothingElseOpensFiles reads all sources of the program: only the gate reaches files.
func TestNothingElseOpensFiles(t *testing.T) {
	root, read := filepath.Join("..", ".."), 0
	require.NoError(t, filepath.WalkDir(root, func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		relative, _ := filepath.Rel(root, name)
		relative = filepath.ToSlash(relative)
		if entry.IsDir() &&
			(relative == "bench" || relative == "outside/gate" || strings.HasPrefix(entry.Name(), ".git")) {
			return fs.SkipDir
		}
		if !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		read++
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, name, nil, 0)
		require.NoError(t, err)
		names := map[string]string{} // of imported packages
		for _, i := range file.Imports {
			path, _ := strconv.Unquote(i.Path.Value)
			functions, watched := opening[path]
			if !watched || allowed[relative+" "+path] != "" {
				continue
			}
			require.NotNil(t, functions, "%s imports %s", relative, path)
			names[filepath.Base(path)] = path
			if i.Name != nil {
				names[i.Name.Name] = path
			}
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if of, ok := s.X.(*ast.Ident); ok && slices.Contains(opening[names[of.Name]], s.Sel.Name) {
					t.Errorf("%s: %s.%s reaches a file without the gate", set.Position(s.Pos()), of.Name, s.Sel.Name)
				}
			}
			return true
		})
		return nil
	}))
	require.Greater(t, read, 100)
}

// soon fails when something takes as long as a pipe to which nobody writes.
func soon(t *testing.T, what string, do func()) {
	t.Helper()
	done := make(chan bool)
	go func() {
		defer close(done)
		do()
	}()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatalf("%s waits for ever", what)
	}
}

// TestOnlyPlainFiles checks that pipes, devices, directories and links that lead out are no files, and that none of
// them holds the program up.
func TestOnlyPlainFiles(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	folder, outside := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("CANARY"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "plain"), []byte("text"), 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(folder, "inner"), 0o755))
	makePipe(t, filepath.Join(folder, "pipe"))
	for name, to := range map[string]string{
		"out": filepath.Join(outside, "secret"), "up": "../" + filepath.Base(outside) + "/secret", "zero": "/dev/zero",
		"topipe": "pipe", "in": "plain", "cycle": "cycle", "outfolder": outside,
	} {
		require.NoError(t, os.Symlink(to, filepath.Join(folder, name)))
	}
	root, err := gate.OpenRoot(folder)
	require.NoError(t, err)
	defer root.Close()
	files := root.FS()
	for _, name := range []string{"pipe", "out", "up", "zero", "topipe", "cycle", "inner", "outfolder/secret", "../x",
		"/etc/passwd", "none"} {
		soon(t, name, func() {
			_, err := root.ReadFile(name)
			require.Error(t, err, name)
			_, err = fs.ReadFile(files, name)
			require.Error(t, err, name)
			if f, err := files.Open(name); err == nil {
				info, _ := f.Stat()
				require.True(t, info.IsDir(), name)
				f.Close()
			}
		})
	}
	for _, name := range []string{"plain", "in"} {
		text, err := fs.ReadFile(files, name)
		require.NoError(t, err)
		require.Equal(t, "text", string(text))
	}
	for _, name := range []string{filepath.Join(folder, "pipe"), "/dev/zero", folder} {
		soon(t, name, func() {
			_, err := gate.ReadFile(name)
			require.ErrorIs(t, err, gate.ErrNotPlain)
		})
	}
	soon(t, "a device that is given", func() {
		_, err := gate.ReadGiven("/dev/zero")
		require.ErrorIs(t, err, gate.ErrTooLarge)
	})
	_, err = root.ReadSome("plain", 3)
	require.ErrorIs(t, err, gate.ErrTooLarge)
}

// TestReplace checks that a file is replaced whole, keeps its mode, is left alone when somebody changed it, and that a
// link in the directory stays one.
func TestReplace(t *testing.T) {
	folder := t.TempDir()
	read := func(name string) string {
		text, err := os.ReadFile(filepath.Join(folder, name))
		require.NoError(t, err)
		return string(text)
	}
	require.NoError(t, os.WriteFile(filepath.Join(folder, "a"), []byte("one"), 0o640))
	left := []byte("of a run that was stopped")
	require.NoError(t, os.WriteFile(filepath.Join(folder, ".knothole-new-b"), left, 0o644))
	require.NoError(t, os.Symlink("a", filepath.Join(folder, "link")))
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(folder, "out")))
	root, err := gate.OpenRoot(folder)
	require.NoError(t, err)
	defer root.Close()
	require.ErrorIs(t, root.Replace("a", []byte("other"), []byte("two")), gate.ErrChanged)
	require.Equal(t, "one", read("a"))
	require.NoError(t, root.Replace("link", []byte("one"), []byte("two")))
	require.Equal(t, "two", read("a"))
	info, err := os.Lstat(filepath.Join(folder, "link"))
	require.NoError(t, err)
	require.NotZero(t, info.Mode()&fs.ModeSymlink)
	info, err = os.Stat(filepath.Join(folder, "a"))
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o640), info.Mode().Perm())
	require.Error(t, root.Replace("out", nil, []byte("two")))
	require.Error(t, root.Replace("none", nil, []byte("two")))
	require.NoError(t, root.Create("x/y", []byte("new"), 0o600))
	require.NoError(t, root.Create("x/y", []byte("new"), 0o600), "a run that was stopped made it")
	require.Error(t, root.Create("x/y", []byte("other"), 0o600))
	require.Error(t, root.Create("link", []byte("two"), 0o600))
	require.Error(t, root.Create("../y", []byte("new"), 0o600))
	entries, err := os.ReadDir(folder)
	require.NoError(t, err)
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	require.Equal(t, []string{"a", "link", "out", "x"}, names, "nothing is left behind")
}

// TestLock checks that one of several has a directory at a time, and that a change which each of them makes is not
// lost.
func TestLock(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "count"), []byte("0"), 0o644))
	done := make(chan error)
	const runs = 16
	for range runs {
		go func() {
			done <- func() error {
				unlock, err := gate.Lock(folder, 0o755, nil)
				if err != nil {
					return err
				}
				defer unlock()
				root, err := gate.OpenRoot(folder)
				if err != nil {
					return err
				}
				defer root.Close()
				before, err := root.ReadFile("count")
				if err != nil {
					return err
				}
				n, _ := strconv.Atoi(string(before))
				return root.Replace("count", before, fmt.Appendf(nil, "%d", n+1))
			}()
		}()
	}
	for range runs {
		require.NoError(t, <-done)
	}
	text, err := os.ReadFile(filepath.Join(folder, "count"))
	require.NoError(t, err)
	require.Equal(t, strconv.Itoa(runs), string(text))
}
