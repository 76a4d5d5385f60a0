package cache_test

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"knothole/outside/cache"
)

func content(text string) cache.Content { return sha256.Sum256([]byte(text)) }

func digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// remember opens what is known of a directory, asks for some contents, notes others, and keeps it. It returns the
// digests of those that were asked for.
func remember(folder string, partial bool, ask []string, note ...string) []string {
	texts := cache.Open(nil, folder, partial)
	var known []string
	for _, name := range ask {
		known = append(known, texts.Digest(content(name)))
	}
	for _, name := range note {
		texts.Put(content(name), digest(name))
	}
	texts.Save()
	return known
}

func files(t *testing.T, folder string) []string {
	all, err := filepath.Glob(filepath.Join(folder, "knothole", "*"))
	require.NoError(t, err)
	return all
}

func TestTexts(t *testing.T) {
	user := t.TempDir()
	t.Setenv("XDG_CACHE_HOME", user)
	require.Equal(t, []string{""}, remember("a", false, []string{"x"}, "x", "y"))
	require.Equal(t, []string{digest("x"), digest("y"), ""}, remember("a", false, []string{"x", "y", "z"}))
	require.Equal(t, []string{""}, remember("b", false, []string{"x"}), "each directory has its own")

	// What was not asked for is forgotten, unless only some were.
	require.Equal(t, []string{digest("x")}, remember("a", true, []string{"x"}, "z"))
	require.Equal(t, []string{digest("y"), digest("z")}, remember("a", false, []string{"y", "z"}))
	require.Equal(t, []string{""}, remember("a", false, []string{"x"}))

	info, err := os.Stat(filepath.Join(user, "knothole"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o700), info.Mode().Perm())
}

func TestDamage(t *testing.T) {
	user := t.TempDir()
	t.Setenv("XDG_CACHE_HOME", user)
	remember("a", false, nil, "x")
	name := files(t, user)[0]
	whole, err := os.ReadFile(name)
	require.NoError(t, err)
	for what, text := range map[string][]byte{
		"empty": nil, "cut": whole[:len(whole)-1], "of another program": append([]byte{^whole[0]}, whole[1:]...),
		"something else": []byte("what is this\n"),
	} {
		require.NoError(t, os.WriteFile(name, text, 0o600))
		require.Equal(t, []string{""}, remember("a", false, []string{"x"}, "x"), what)
		require.Equal(t, []string{digest("x")}, remember("a", false, []string{"x"}), "%s: it is written anew", what)
	}
}

func TestWithoutAPlace(t *testing.T) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	for _, place := range []string{file, filepath.Join(file, "below"), "relative"} {
		t.Setenv("XDG_CACHE_HOME", place)
		require.Equal(t, []string{""}, remember("a", false, []string{"x"}, "x"))
		require.Equal(t, []string{""}, remember("a", false, []string{"x"}, "x"),
			"nothing is kept, and nothing is wrong")
	}
}

func TestForgets(t *testing.T) {
	user := t.TempDir()
	t.Setenv("XDG_CACHE_HOME", user)
	remember("gone", false, nil, "x")
	long := time.Now().Add(-60 * 24 * time.Hour)
	require.NoError(t, os.Chtimes(files(t, user)[0], long, long))
	remember("a", false, nil, "x")
	require.Len(t, files(t, user), 1)
	require.Equal(t, []string{""}, remember("gone", false, []string{"x"}))
}

// TestIdentity checks that the program is told by its build, not by its name, size or time: the head of a built program
// has the identity that the linker gave it.
func TestIdentity(t *testing.T) {
	folder := t.TempDir()
	program := []byte("package main\nfunc main() { println(1) }\n")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "main.go"), program, 0o644))
	build := exec.Command("go", "build", "-o", filepath.Join(folder, "built"), filepath.Join(folder, "main.go"))
	build.Env = append(os.Environ(), "CGO_ENABLED=0", "GO111MODULE=off")
	out, err := build.CombinedOutput()
	require.NoError(t, err, string(out))
	said, err := exec.Command("go", "tool", "buildid", filepath.Join(folder, "built")).Output()
	require.NoError(t, err)
	require.Equal(t, strings.TrimSpace(string(said)), cache.BuildID(filepath.Join(folder, "built")))
}
