package folder_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/outside/cache"
	"knothole/outside/folder"
	"knothole/outside/gate"
)

func write(t *testing.T, directory string, options folder.Options, files ...folder.File) (summary, error) {
	t.Helper()
	plan, err := folder.Prepare(filepath.Dir(directory), filepath.Base(directory), files, options)
	if err != nil {
		return summary{}, err
	}
	if err := plan.Stage(); err != nil {
		return summary{}, err
	}
	if err := plan.Sync(); err != nil {
		return summary{}, err
	}
	s := plan.Summary()
	return summary{len(s.Written), len(s.Unchanged), len(s.Removed)}, plan.Commit(nil)
}

// summary counts what was done.
type summary struct{ Written, Unchanged, Removed int }

func file(path, text string) folder.File { return folder.File{Path: path, Data: []byte(text)} }

// tree returns all files below a directory with their contents, the record aside.
func tree(t *testing.T, directory string) map[string]string {
	t.Helper()
	files := map[string]string{}
	require.NoError(t, filepath.WalkDir(directory, func(name string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() || entry.Name() == folder.RecordName {
			return err
		}
		text, err := os.ReadFile(name)
		relative, _ := filepath.Rel(directory, name)
		files[filepath.ToSlash(relative)] = string(text)
		return err
	}))
	return files
}

func TestWritesRemovesAndLeavesAlone(t *testing.T) {
	d := filepath.Join(t.TempDir(), "north")
	done, err := write(t, d, folder.Options{}, file("k8s/a.yaml", "a"), file("b.env", "b"))
	require.NoError(t, err)
	require.Equal(t, summary{Written: 2}, done)

	before, err := os.Stat(filepath.Join(d, "b.env"))
	require.NoError(t, err)
	done, err = write(t, d, folder.Options{}, file("b.env", "b"), file("c/d.txt", "d"))
	require.NoError(t, err)
	require.Equal(t, summary{Written: 1, Unchanged: 1, Removed: 1}, done)
	require.Equal(t, map[string]string{"b.env": "b", "c/d.txt": "d"}, tree(t, d))
	require.NoDirExists(t, filepath.Join(d, "k8s"), "a directory that is empty now goes too")
	after, err := os.Stat(filepath.Join(d, "b.env"))
	require.NoError(t, err)
	require.Equal(t, before.ModTime(), after.ModTime(), "an equal file is not written again")

	record, err := os.ReadFile(filepath.Join(d, folder.RecordName))
	require.NoError(t, err)
	require.Equal(t, "3e23e8160039594a33894f6564e1b1348bbd7a0088d42c4acb73eeaed59c009d "+
		"b.env\n18ac3e7343f016890c510e93f935261169d9e3f565436429830faf0934f4f8e4 c/d.txt\n", string(record))
}

func TestRefusesWhatOthersMadeOrChanged(t *testing.T) {
	d := t.TempDir()
	_, err := write(t, d, folder.Options{}, file("a", "1"), file("b", "1"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(d, "a"), []byte("mine"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(d, "c"), []byte("mine"), 0o644))

	var refusal *folder.Refusal
	_, err = write(t, d, folder.Options{}, file("a", "2"), file("b", "2"), file("c", "2"))
	require.True(t, errors.As(err, &refusal))
	require.Equal(t, []string{"a", "c"}, refusal.Changed)
	require.Equal(t, map[string]string{"a": "mine", "b": "1", "c": "mine"}, tree(t, d), "nothing was written")

	_, err = write(t, d, folder.Options{}, file("b", "1"))
	require.True(t, errors.As(err, &refusal), "an edited file is not removed either")

	done, err := write(t, d, folder.Options{Overwrite: true}, file("b", "2"), file("c", "2"))
	require.NoError(t, err)
	require.Equal(t, summary{Written: 2, Removed: 1}, done)
	require.Equal(t, map[string]string{"b": "2", "c": "2"}, tree(t, d))
}

func TestEqualFilesWithoutRecordAreTakenOver(t *testing.T) {
	d := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(d, "a"), []byte("1"), 0o644))
	done, err := write(t, d, folder.Options{}, file("a", "1"))
	require.NoError(t, err)
	require.Equal(t, summary{Unchanged: 1}, done)
	_, err = write(t, d, folder.Options{}, file("a", "2"))
	require.NoError(t, err)
}

func TestPartialRemovesNothing(t *testing.T) {
	d := t.TempDir()
	_, err := write(t, d, folder.Options{}, file("a", "1"), file("b", "1"))
	require.NoError(t, err)
	_, err = write(t, d, folder.Options{Partial: true}, file("a", "2"))
	require.NoError(t, err)
	require.Equal(t, map[string]string{"a": "2", "b": "1"}, tree(t, d))
	done, err := write(t, d, folder.Options{}, file("a", "2"))
	require.NoError(t, err)
	require.Equal(t, 1, done.Removed, "what a partial run left is still known")
}

func TestStaysInside(t *testing.T) {
	d, elsewhere := t.TempDir(), t.TempDir()
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(d, "link")))
	_, err := write(t, d, folder.Options{}, file("link/a", "1"))
	require.ErrorContains(t, err, "a link leads out of the directory")
	require.Empty(t, tree(t, elsewhere))
	require.NoError(t, os.Symlink(filepath.Join(elsewhere, "x"), filepath.Join(d, "b")))
	_, err = write(t, d, folder.Options{Overwrite: true}, file("b", "1"))
	require.ErrorContains(t, err, "other than a regular file")
}

func TestFailureLeavesNothingBehind(t *testing.T) {
	d := t.TempDir()
	_, err := write(t, d, folder.Options{}, file("a", "1"))
	require.NoError(t, err)
	// A file of somebody is where a directory is needed.
	require.NoError(t, os.WriteFile(filepath.Join(d, "sub"), []byte("in the way"), 0o644))
	_, err = write(t, d, folder.Options{}, file("a", "2"), file("sub/b", "2"))
	require.Error(t, err)
	require.Equal(t, map[string]string{"a": "1", "sub": "in the way"}, tree(t, d),
		"neither half a result nor a file that was staged")
}

func TestDamagedRecord(t *testing.T) {
	d := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(d, folder.RecordName), []byte("what is this\n"), 0o644))
	_, err := write(t, d, folder.Options{}, file("a", "1"))
	require.ErrorContains(t, err, "is not a digest and a path; remove the file to start a new record")
}

func TestFilesAndFoldersTakeEachOthersPlace(t *testing.T) {
	d := filepath.Join(t.TempDir(), "north")
	_, err := write(t, d, folder.Options{}, file("a", "1"), file("b/c/d", "1"))
	require.NoError(t, err)
	_, err = write(t, d, folder.Options{}, file("a/x", "2"), file("b", "2"))
	require.NoError(t, err)
	require.Equal(t, map[string]string{"a/x": "2", "b": "2"}, tree(t, d))
	require.NoError(t, os.WriteFile(filepath.Join(d, "a", "mine"), []byte("mine"), 0o644))
	_, err = write(t, d, folder.Options{}, file("a", "3"), file("b", "3"))
	require.ErrorContains(t, err, "a directory is at the path of the document")
	require.Equal(t, map[string]string{"a/x": "2", "a/mine": "mine", "b": "2"}, tree(t, d))

	// A directory that somebody put in the place of a document that is no longer rendered is theirs.
	require.NoError(t, os.Remove(filepath.Join(d, "b")))
	require.NoError(t, os.Mkdir(filepath.Join(d, "b"), 0o755))
	_, err = write(t, d, folder.Options{}, file("a/x", "2"))
	require.NoError(t, err)
	require.DirExists(t, filepath.Join(d, "b"))
}

// remembered are options for secret files, with what the user's cache directory remembers of a directory.
func remembered(t *testing.T, directory string) folder.Options {
	t.Helper()
	return folder.Options{Secret: true, Memory: cache.OpenWritten(nil, directory)}
}

func TestSecretFiles(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	d := filepath.Join(t.TempDir(), "secret", "north")
	_, err := write(t, d, remembered(t, d), file("a", "1"), file("b", "1"))
	require.NoError(t, err)
	info, err := os.Stat(filepath.Join(d, "a"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	info, err = os.Stat(d)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	require.NoFileExists(t, filepath.Join(d, folder.RecordName), "what was written is remembered elsewhere")
	done, err := write(t, d, remembered(t, d), file("a", "2"))
	require.NoError(t, err)
	require.Equal(t, summary{Written: 1, Removed: 1}, done)
	require.Equal(t, map[string]string{"a": "2"}, tree(t, d))

	// A file that others may read is written again, with its mode.
	require.NoError(t, os.Chmod(filepath.Join(d, "a"), 0o644))
	done, err = write(t, d, remembered(t, d), file("a", "2"))
	require.NoError(t, err)
	require.Equal(t, summary{Written: 1}, done)
	info, err = os.Stat(filepath.Join(d, "a"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	done, err = write(t, d, remembered(t, d), file("a", "2"))
	require.NoError(t, err)
	require.Equal(t, summary{Unchanged: 1}, done)

	// What somebody edited or made is theirs; what is equal is taken over.
	require.NoError(t, os.WriteFile(filepath.Join(d, "a"), []byte("edited"), 0o600))
	_, err = write(t, d, remembered(t, d), file("a", "3"))
	require.ErrorContains(t, err, "was not written by knothole, or was edited afterwards")
	require.NoError(t, os.WriteFile(filepath.Join(d, "mine"), []byte("mine"), 0o600))
	_, err = write(t, d, remembered(t, d), file("mine", "2"))
	require.Error(t, err)
	_, err = write(t, d, remembered(t, d), file("a", "edited"), file("mine", "mine"))
	require.NoError(t, err)
}

// TestNothingInTheFolderDecides contains that of secret files no record and no journal in the directory counts,
// whatever it says: only what this user's cache remembers.
func TestNothingInTheFolderDecides(t *testing.T) {
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	digest := func(text string) string { return folder.Digest([]byte(text)) }
	for _, journal := range []string{"remove -1 * notes.txt\n", "remove -1 " + digest("mine") + " notes.txt\n",
		"remove -1 - notes.txt\n", "put 0 * notes.txt\n", "put 0 " + digest("mine") + " notes.txt\n", "\n", "x"} {
		d := filepath.Join(t.TempDir(), "secret", "ann")
		require.NoError(t, os.MkdirAll(filepath.Join(d, ".knothole-staging"), 0o700))
		for name, text := range map[string]string{"notes.txt": "mine", ".knothole-record": "- notes.txt\n",
			".knothole-staging/journal": journal, ".knothole-staging/0": "evil"} {
			require.NoError(t, os.WriteFile(filepath.Join(d, name), []byte(text), 0o600))
		}
		for _, options := range []folder.Options{{Secret: true}, remembered(t, d)} {
			_, err := write(t, d, options, file("other.txt", "1"))
			require.ErrorContains(t, err, "its journal was not written on this machine", journal)
		}
		require.NoError(t, os.RemoveAll(filepath.Join(d, ".knothole-staging")))
		_, err := write(t, d, remembered(t, d), file("other.txt", "1"))
		require.NoError(t, err)
		_, err = write(t, d, remembered(t, d), file("notes.txt", "2"))
		require.Error(t, err)
		text, err := os.ReadFile(filepath.Join(d, "notes.txt"))
		require.NoError(t, err)
		require.Equal(t, "mine", string(text))
	}
}

// TestJournalOfAChange checks that a journal in a directory for rendered files, which may have come with a change, does
// nothing that its record would not allow.
func TestJournalOfAChange(t *testing.T) {
	digest := func(text string) string { return folder.Digest([]byte(text)) }
	d := t.TempDir()
	_, err := write(t, d, folder.Options{}, file("a", "1"), file("b", "1"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(d, "mine"), []byte("mine"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(d, "b"), []byte("edited"), 0o644))
	staging := filepath.Join(d, ".knothole-staging")
	require.NoError(t, os.Mkdir(staging, 0o755))
	for name, text := range map[string]string{"0": "evil", "1": "2", "2": "evil", "journal": "put 0 " + digest("mine") +
		" mine\nput 1 " + digest("1") + " a\nput 2 " + digest("edited") + " b\nremove -1 " + digest("mine") +
		" mine\nremove -1 " + digest("edited") + " b\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(staging, name), []byte(text), 0o644))
	}
	_, err = write(t, d, folder.Options{}, file("c", "1"), file("b", "1"))
	require.Error(t, err, "b was edited")
	require.Equal(t, map[string]string{"a": "2", "b": "edited", "mine": "mine"}, tree(t, d))
}

// TestEndsOfLines checks that a directory that was checked out with other ends of lines is taken for what was written.
func TestEndsOfLines(t *testing.T) {
	d := t.TempDir()
	_, err := write(t, d, folder.Options{}, file("a", "1\n2\n"), file("b", "1\n"), file("c", "1\n"))
	require.NoError(t, err)
	for _, name := range []string{"a", "b", "c", folder.RecordName} {
		text, err := os.ReadFile(filepath.Join(d, name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(d, name), bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n")), 0o644))
	}
	done, err := write(t, d, folder.Options{}, file("a", "1\n2\n"), file("b", "2\n"))
	require.NoError(t, err)
	require.Equal(t, summary{Written: 2, Removed: 1}, done)
	require.Equal(t, map[string]string{"a": "1\n2\n", "b": "2\n"}, tree(t, d))
}

func TestLockMakesOthersWait(t *testing.T) {
	d := filepath.Join(t.TempDir(), "rendered")
	unlock, err := gate.Lock(d, 0o755, nil)
	require.NoError(t, err)
	waiting, got := make(chan bool), make(chan bool)
	go func() {
		again, err := gate.Lock(d, 0o755, func() { close(waiting) })
		if err == nil {
			again()
		}
		got <- err == nil
	}()
	<-waiting
	select {
	case <-got:
		t.Fatal("it did not wait")
	default:
	}
	unlock()
	require.True(t, <-got)
	require.NoDirExists(t, d, "an empty directory is not left")
}

func TestStrangers(t *testing.T) {
	d := t.TempDir()
	for _, name := range []string{"north", "old"} {
		_, err := write(t, filepath.Join(d, name), folder.Options{}, file("a", "1"))
		require.NoError(t, err)
	}
	require.NoError(t, os.Mkdir(filepath.Join(d, "mine"), 0o755))
	require.Equal(t, []string{"old"}, folder.Orphans(d, []string{"north"}, nil))
}

func TestWhatIsNeverReplaced(t *testing.T) {
	d := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(d, "a", "own"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(d, "b"), []byte("mine"), 0o644))
	require.NoError(t, os.Symlink("b", filepath.Join(d, "c")))
	require.NoError(t, os.WriteFile(filepath.Join(d, "d"), []byte("mine"), 0o644))
	var refusal *folder.Refusal
	_, err := write(t, d, folder.Options{Overwrite: true}, file("a", "1"), file("b/x", "1"), file("c", "1"),
		file("d", "1"))
	require.ErrorAs(t, err, &refusal)
	require.Empty(t, refusal.Changed)
	require.Equal(t, []folder.Blocked{
		{Path: "a", By: "a directory is at the path of the document"},
		{Path: "b/x", By: "a file is at the path of the document's directory"},
		{Path: "c", By: "something other than a regular file is at the path of the document"},
	}, refusal.Blocked)
	require.Equal(t, map[string]string{"b": "mine", "c": "mine", "d": "mine"}, tree(t, d))
}

// TestRecordsAreNoWayOut checks that a record is ignored if it names anything but a path in its directory.
func TestRecordsAreNoWayOut(t *testing.T) {
	for _, name := range []string{"../x", "/x", "a/../../x", "", ".", "a//b", "./a"} {
		d := filepath.Join(t.TempDir(), "north")
		require.NoError(t, os.Mkdir(d, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(d, folder.RecordName), []byte(folder.Digest([]byte("1"))+" "+name+
			"\n"), 0o644))
		_, err := write(t, d, folder.Options{}, file("a", "1"))
		require.ErrorContains(t, err, "line 1 is not a digest and a path", "%q", name)
	}
}

// TestRememberedDigest checks that what a run before is remembered to have written counts only where the record says
// so: the file may be anybody's.
func TestRememberedDigest(t *testing.T) {
	d := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(d, "a"), []byte("1"), 0o644))
	made := 0
	remembered := folder.File{Path: "a", Digest: folder.Digest([]byte("1")), Make: func() ([]byte, error) {
		made++
		return []byte("2"), nil
	}}
	_, err := write(t, d, folder.Options{}, remembered)
	require.ErrorContains(t, err, "was not written by knothole")
	require.Equal(t, 1, made)
	_, err = write(t, d, folder.Options{}, file("a", "1"))
	require.NoError(t, err)
	done, err := write(t, d, folder.Options{}, remembered)
	require.NoError(t, err)
	require.Equal(t, summary{Unchanged: 1}, done)
	require.Equal(t, 1, made, "now the record says that it was written")
}
