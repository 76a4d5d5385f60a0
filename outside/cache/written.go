package cache

import (
	"bytes"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"knothole/outside/gate"
)

// Written records the secret files that the program wrote into a directory. It is in the user's cache, so a change of a
// project cannot alter it. It contains only keyed digests: they reveal nothing about the files, and adding one requires
// the key.
type Written struct {
	disk    *gate.Disk // where it is kept; nil for the machine's
	file    string     // empty if the user has no cache
	key     []byte
	digests map[string][]string // by path; two while a file is replaced
	journal string              // the digest of the journal of a run that began; empty for none
}

// writtenFolder is the directory of these records in the program's cache. It has the key, and one directory for each
// directory that was written, so that concurrent runs do not conflict.
const (
	writtenFolder = "written"
	digestsName   = "digests"
	keyName       = "key"
)

// OpenWritten reads the record of a directory. Without a cache, the record is empty.
func OpenWritten(disk *gate.Disk, directory string) *Written {
	w := &Written{disk: disk, digests: map[string][]string{}}
	user, err := os.UserCacheDir()
	if err != nil {
		return w
	}
	absolute, err := filepath.Abs(directory)
	if err != nil {
		return w
	}
	base := filepath.Join(user, folderName, writtenFolder)
	if w.key = readKey(disk, base); w.key == nil {
		return w
	}
	of := sha256.Sum256([]byte(absolute))
	w.file = filepath.Join(base, hex.EncodeToString(of[:16]), digestsName)
	text, err := gate.ReadFile(w.file)
	if err != nil {
		return w
	}
	for line := range strings.Lines(string(text)) {
		digest, name, ok := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		switch {
		case !ok || len(digest) != 2*sha256.Size:
		case name == "":
			w.journal = digest
		default:
			w.digests[name] = append(w.digests[name], digest)
		}
	}
	return w
}

// readKey reads the user's key, and creates it if it does not exist.
func readKey(disk *gate.Disk, base string) []byte {
	name := filepath.Join(base, keyName)
	if key, err := gate.ReadFile(name); err == nil && len(key) == sha256.Size {
		return key
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if disk.MakeFolder(base, 0o700) != nil {
		return nil
	}
	root, err := disk.OpenRoot(base)
	if err != nil {
		return nil
	}
	defer root.Close()
	key := make([]byte, sha256.Size)
	_, _ = rand.Read(key) // which never fails
	_ = root.Keep(keyName, key, 0o600)
	key, err = gate.ReadFile(name) // that of another run, if one made it at the same time
	if err != nil || len(key) != sha256.Size {
		return nil
	}
	return key
}

// Digest returns the keyed digest of the contents of a file.
func (w *Written) Digest(name string, text []byte) string {
	h := hmac.New(sha256.New, w.key)
	h.Write([]byte(name + "\x00"))
	h.Write(text)
	return hex.EncodeToString(h.Sum(nil))
}

// Names returns the paths of the files that were written, sorted.
func (w *Written) Names() []string { return slices.Sorted(maps.Keys(w.digests)) }

// Wrote reports whether the program wrote exactly this into a file.
func (w *Written) Wrote(name string, text []byte) bool {
	return w.file != "" && slices.Contains(w.digests[name], w.Digest(name, text))
}

// Began reports whether a journal belongs to a stopped run of the program.
func (w *Written) Began(journal []byte) bool {
	return w.file != "" && w.journal != "" && w.journal == w.Digest("", journal)
}

// Begin records the files that a run will write, in addition to earlier ones, and its journal.
func (w *Written) Begin(journal []byte, files map[string][]byte) error {
	if w.file == "" {
		return nil
	}
	for name, text := range files {
		if digest := w.Digest(name, text); !slices.Contains(w.digests[name], digest) {
			w.digests[name] = append(w.digests[name], digest)
		}
	}
	w.journal = w.Digest("", journal)
	return w.save()
}

// End records the files that a run wrote, and deletes those that it removed.
func (w *Written) End(files map[string][]byte, removed []string) error {
	if w.file == "" {
		return nil
	}
	for name, text := range files {
		w.digests[name] = []string{w.Digest(name, text)}
	}
	for _, name := range removed {
		delete(w.digests, name)
	}
	w.journal = ""
	return w.save()
}

func (w *Written) save() error {
	if err := w.disk.MakeFolder(filepath.Dir(w.file), 0o700); err != nil {
		return err
	}
	root, err := w.disk.OpenRoot(filepath.Dir(w.file))
	if err != nil {
		return err
	}
	defer root.Close()
	var b bytes.Buffer
	if w.journal != "" {
		b.WriteString(w.journal + " \n")
	}
	for _, name := range w.Names() {
		for _, digest := range w.digests[name] {
			b.WriteString(digest + " " + name + "\n")
		}
	}
	if b.Len() == 0 {
		if err := root.Remove(digestsName); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		w.disk.RemoveEmpty(filepath.Dir(w.file))
		return nil
	}
	return root.Keep(digestsName, b.Bytes(), 0o600)
}
