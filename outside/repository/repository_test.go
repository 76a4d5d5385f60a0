package repository_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/outside/repository"
)

// TestFilesAtACommit holds that files are read as they were, from a folder of a repository, and that what is on the
// machine of whoever runs it does not matter.
func TestFilesAtACommit(t *testing.T) {
	top := t.TempDir()
	t.Setenv("HOME", top)
	t.Setenv("GIT_DIR", filepath.Join(top, "elsewhere"))
	run := func(arguments ...string) {
		_, err := repository.Git(top, nil, append([]string{"-c", "user.name=heron", "-c",
			"user.email=heron@floodwatch.example"}, arguments...)...)
		require.NoError(t, err)
	}
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(top, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(top, name), []byte(text), 0o600))
	}
	run("init", "-q")
	write("bay/map.knot", "one\n")
	write("bay/odd name/ä.txt", "")
	write("other.txt", "no\n")
	require.NoError(t, os.Symlink("map.knot", filepath.Join(top, "bay", "link")))
	run("add", ".")
	run("commit", "-q", "-m", "one")
	write("bay/map.knot", "two\n")
	r, err := repository.Open(filepath.Join(top, "bay"))
	require.NoError(t, err)
	commit, err := r.Commit("HEAD")
	require.NoError(t, err)
	files, err := r.Files(commit)
	require.NoError(t, err)
	require.Equal(t, map[string][]byte{"map.knot": []byte("one\n"), "odd name/ä.txt": {}}, files)
	text, err := fs.ReadFile(repository.Tree(files), "map.knot")
	require.NoError(t, err)
	require.Equal(t, "one\n", string(text))
	for _, revision := range []string{"nowhere", "--all", "HEAD:bay", ""} {
		_, err := r.Commit(revision)
		require.Error(t, err, revision)
	}
	_, err = repository.Open(t.TempDir())
	require.ErrorIs(t, err, repository.ErrNone)
}
