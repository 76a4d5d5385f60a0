// Package cache remembers what texts documents had, in the directory that the machine has for such things. It exists so
// that a document whose content is that of the last run need not be put into its format again to find that its file
// is as it should be. Nothing depends on it: without a cache, or with a damaged one, everything is just made anew.
package cache

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"sync"
	"time"

	"knothole/outside/gate"
)

// Content is a digest of all that the text of a document depends on, but the program that makes it.
type Content = [sha256.Size]byte

// folderName is the name of the directory of the program among those of others.
const folderName = "knothole"

// kept is for how long what no run has used stays.
const kept = 30 * 24 * time.Hour

// Texts are the digests of the texts of documents, by their content. They are good for one goroutine.
type Texts struct {
	disk    *gate.Disk // where it is kept; nil for the machine's
	name    string     // of the file; empty for no cache
	program [sha256.Size]byte
	before  map[Content][sha256.Size]byte
	used    map[Content][sha256.Size]byte
	texts   map[string]bool // the digests of before, once they are asked for
	all     bool            // what was known before stays
	changed bool
	packed  []byte // what Save writes, once that is certain; the maps are then gone
}

// Open reads what is known of the documents that go to a directory. Everything is known of the running program only:
// another one may write the same content in another way. Partial says that only some of the documents will be asked
// for.
func Open(disk *gate.Disk, directory string, partial bool) *Texts {
	t := &Texts{disk: disk, used: map[Content][sha256.Size]byte{}, before: map[Content][sha256.Size]byte{},
		all: partial}
	user, err := os.UserCacheDir()
	if err != nil {
		return t
	}
	absolute, err := filepath.Abs(directory)
	if err != nil {
		return t
	}
	program, ok := identity()
	if !ok {
		return t
	}
	of := sha256.Sum256([]byte(absolute))
	t.name, t.program = filepath.Join(user, folderName, hex.EncodeToString(of[:16])), program
	text, err := gate.ReadFile(t.name)
	if err != nil || len(text)%sha256.Size != 0 || !bytes.HasPrefix(text, program[:]) {
		t.changed = true
		return t
	}
	for text = text[sha256.Size:]; len(text) >= 2*sha256.Size; text = text[2*sha256.Size:] {
		t.before[Content(text)] = [sha256.Size]byte(text[sha256.Size:])
	}
	return t
}

// headLength is how far into a program the identity of its build is at most.
const headLength = 64 << 10

// buildID is the identity that the linker gives a build, made of all that went into it: in a note of ELF, or as a text
// before the code.
var buildID = regexp.MustCompile(`(?:Go build ID: "|Go\x00\x00)([A-Za-z0-9_/-]{20,})`)

// BuildID returns the identity of the build of a program; empty when it has none.
func BuildID(name string) string {
	head, err := gate.ReadHead(name, headLength)
	if err != nil {
		return ""
	}
	if id := buildID.FindSubmatch(head); id != nil {
		return string(id[1])
	}
	return ""
}

// identity tells the running program from any other: by the identity of its build, or by all of its bytes when it has
// none. Name, size and time do not: another build may have the same.
var identity = sync.OnceValues(func() (digest [sha256.Size]byte, ok bool) {
	name, err := os.Executable()
	if err != nil {
		return digest, false
	}
	if id := BuildID(name); id != "" {
		return sha256.Sum256([]byte(id)), true
	}
	text, err := gate.ReadFile(name)
	return sha256.Sum256(text), err == nil
})

// Digest returns the digest, in hexadecimal, of the text of a document with a content; empty when it is not known.
func (t *Texts) Digest(content Content) string {
	digest, ok := t.before[content]
	if !ok {
		return ""
	}
	t.used[content] = digest
	return hex.EncodeToString(digest[:])
}

// Knows reports whether the text of some document had a digest, in hexadecimal.
func (t *Texts) Knows(digest string) bool {
	if t.texts == nil {
		t.texts = make(map[string]bool, len(t.before))
		for _, d := range t.before {
			t.texts[hex.EncodeToString(d[:])] = true
		}
	}
	return t.texts[digest]
}

// Put notes the digest, in hexadecimal, of the text of a document.
func (t *Texts) Put(content Content, digest string) {
	var d [sha256.Size]byte
	if n, err := hex.Decode(d[:], []byte(digest)); err != nil || n != len(d) {
		return
	}
	t.used[content], t.changed = d, true
}

// Pack says that nothing more is asked for or noted: what Save needs takes less memory from then on.
func (t *Texts) Pack() {
	if t.packed == nil && t.name != "" && (t.changed || !t.all && len(t.used) != len(t.before)) {
		t.packed = t.format()
	}
	t.before, t.used, t.texts = nil, nil, nil
}

func (t *Texts) format() []byte {
	if t.all {
		for content, digest := range t.before {
			if _, ok := t.used[content]; !ok {
				t.used[content] = digest
			}
		}
	}
	text := make([]byte, 0, (1+2*len(t.used))*sha256.Size)
	text = append(text, t.program[:]...)
	for content, digest := range t.used {
		text = append(append(text, content[:]...), digest[:]...)
	}
	return text
}

// Save keeps what was noted for the next run. A failure is ignored: the next run then makes everything anew.
func (t *Texts) Save() {
	if t.name == "" {
		return
	}
	t.Pack()
	if t.packed == nil {
		if root, err := t.disk.OpenRoot(filepath.Dir(t.name)); err == nil {
			_ = root.Touch(filepath.Base(t.name)) // so that it is not forgotten
			root.Close()
		}
		return
	}
	if t.disk.MakeFolder(filepath.Dir(t.name), 0o700) != nil {
		return
	}
	root, err := t.disk.OpenRoot(filepath.Dir(t.name))
	if err != nil {
		return
	}
	defer root.Close()
	if root.Keep(filepath.Base(t.name), t.packed, 0o600) == nil {
		forget(root)
	}
}

// ownName is what the files are called that Save writes.
var ownName = regexp.MustCompile(`^[0-9a-f]{32}$`)

// forget removes what has not been used for long: of projects that are gone.
func forget(root *gate.Root) {
	entries, err := fs.ReadDir(root.FS(), ".")
	if err != nil {
		return
	}
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && info.Mode().IsRegular() && ownName.MatchString(e.Name()) && time.Since(info.ModTime()) > kept {
			_ = root.Remove(e.Name())
		}
	}
}
