// Package folder writes rendered documents into a folder of the machine. It exists to keep what people made: it
// writes all or, when something stands against it, nothing, and it touches no file that it did not write itself.
package folder

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// RecordName is the file beside the documents that says what was written: one line for each document, its SHA-256
// and its path, sorted by path.
const RecordName = ".knothole-record"

// stagingName is the folder, beside the documents, in which files are written in full before they are put in place.
const stagingName = ".knothole-staging"

// File is one document as it is to be written; Path is relative to the folder, with forward slashes.
type File struct {
	Path string
	Data []byte
}

// Options say how to write.
type Options struct {
	// Overwrite also replaces and removes files that were changed since, or that were never written by the program.
	Overwrite bool
	// Partial says that the files are only some of the documents: nothing is removed.
	Partial bool
}

// Summary counts what was done.
type Summary struct{ Written, Unchanged, Removed int }

// Refusal says that files of other people stand in the way. Nothing was written.
type Refusal struct {
	Folder string
	Paths  []string // sorted
}

// Error names the files.
func (r *Refusal) Error() string {
	return fmt.Sprintf("%s: not written by knothole, or changed since: %s", r.Folder, strings.Join(r.Paths, ", "))
}

// Plan is what is to be done in one folder; it has been checked that it can be.
type Plan struct {
	directory string
	record    map[string]string // what the record will say
	write     []File
	remove    []string
	summary   Summary
}

// Prepare finds out what is to be written into a folder, which need not exist. The error is a *Refusal when files
// stand in the way.
func Prepare(directory string, files []File, options Options) (*Plan, error) {
	plan := &Plan{directory: directory, record: map[string]string{}}
	root, err := openRoot(directory)
	if err != nil {
		return nil, err
	}
	before := map[string]string{}
	if root != nil {
		defer root.Close()
		if before, err = readRecord(root); err != nil {
			return nil, fmt.Errorf("%s: %w", path.Join(directory, RecordName), err)
		}
	}
	refusal := &Refusal{Folder: directory}
	for _, f := range files {
		digest := digestOf(f.Data)
		plan.record[f.Path] = digest
		current, exists, err := current(root, f.Path)
		switch {
		case err != nil:
			return nil, fmt.Errorf("%s: %w", path.Join(directory, f.Path), plain(err))
		case exists && bytes.Equal(current, f.Data):
			plan.summary.Unchanged++
			continue
		case exists && before[f.Path] != digestOf(current) && !options.Overwrite:
			refusal.Paths = append(refusal.Paths, f.Path)
		}
		plan.write = append(plan.write, f)
		plan.summary.Written++
	}
	for _, name := range slices.Sorted(maps.Keys(before)) {
		digest := before[name]
		if _, ok := plan.record[name]; ok {
			continue
		}
		if options.Partial {
			plan.record[name] = digest
			continue
		}
		current, exists, err := current(root, name)
		switch {
		case err != nil:
			return nil, fmt.Errorf("%s: %w", path.Join(directory, name), plain(err))
		case !exists:
			continue
		case digestOf(current) != digest && !options.Overwrite:
			refusal.Paths = append(refusal.Paths, name)
			continue
		}
		plan.remove = append(plan.remove, name)
		plan.summary.Removed++
	}
	if len(refusal.Paths) > 0 {
		slices.Sort(refusal.Paths)
		return nil, refusal
	}
	return plan, nil
}

// Apply does what was planned. Every file is written in full beside its place before the first is put there, so that
// a full disk leaves everything as it was.
func (p *Plan) Apply() (summary Summary, err error) {
	if err := os.MkdirAll(p.directory, 0o755); err != nil {
		return Summary{}, err
	}
	root, err := os.OpenRoot(p.directory)
	if err != nil {
		return Summary{}, err
	}
	defer root.Close()
	record := formatRecord(p.record)
	if old, exists, _ := current(root, RecordName); !exists || !bytes.Equal(old, record) {
		p.write = append(p.write, File{RecordName, record})
	}
	if len(p.write) > 0 {
		if err := p.stage(root); err != nil {
			return Summary{}, err
		}
	}
	for _, name := range p.remove {
		if err := root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return Summary{}, fmt.Errorf("%s: %w", path.Join(p.directory, name), plain(err))
		}
		// Folders that are empty now go too.
		for folder := path.Dir(name); folder != "."; folder = path.Dir(folder) {
			if root.Remove(folder) != nil {
				break
			}
		}
	}
	return p.summary, nil
}

// stage writes all files beside the documents and then moves them to their places.
func (p *Plan) stage(root *os.Root) error {
	failed := func(name string, err error) error {
		return fmt.Errorf("%s: %w", path.Join(p.directory, name), plain(err))
	}
	// What a run left that was stopped is of no use.
	if err := root.RemoveAll(stagingName); err != nil {
		return failed(stagingName, err)
	}
	if err := root.Mkdir(stagingName, 0o755); err != nil {
		return failed(stagingName, err)
	}
	defer root.RemoveAll(stagingName)
	staged := func(i int) string { return path.Join(stagingName, strconv.Itoa(i)) }
	for i, f := range p.write {
		if err := root.MkdirAll(path.Dir(f.Path), 0o755); err != nil {
			return failed(path.Dir(f.Path), err)
		}
		if err := root.WriteFile(staged(i), f.Data, 0o644); err != nil {
			return failed(f.Path, err)
		}
	}
	for i, f := range p.write {
		if err := root.Rename(staged(i), f.Path); err != nil {
			return failed(f.Path, err)
		}
	}
	return nil
}

// openRoot opens a folder, nil when there is none yet.
func openRoot(directory string) (*os.Root, error) {
	root, err := os.OpenRoot(directory)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return root, err
}

// current returns the contents of a file.
func current(root *os.Root, name string) (text []byte, exists bool, err error) {
	if root == nil {
		return nil, false, nil
	}
	info, err := root.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, false, nil
	case err != nil:
		return nil, false, err
	case info.IsDir():
		return nil, false, errors.New("a folder stands where the document goes")
	case !info.Mode().IsRegular():
		return nil, false, errors.New("something that is no plain file stands where the document goes")
	}
	text, err = root.ReadFile(name)
	return text, err == nil, err
}

// plain takes the operation and the path off an error, which the caller names better.
func plain(err error) error {
	if err == nil {
		return nil
	}
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		return pathError.Err
	}
	return err
}

func digestOf(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// readRecord reads the record of a folder.
func readRecord(root *os.Root) (map[string]string, error) {
	text, exists, err := current(root, RecordName)
	record := map[string]string{}
	if err != nil || !exists {
		return record, err
	}
	lines := bufio.NewScanner(bytes.NewReader(text))
	for lines.Scan() {
		digest, name, ok := strings.Cut(lines.Text(), " ")
		if !ok || len(digest) != 2*sha256.Size {
			return nil, fmt.Errorf("the line %q is not a digest and a path; remove the file to start a new record", lines.Text())
		}
		record[name] = digest
	}
	return record, lines.Err()
}

func formatRecord(record map[string]string) []byte {
	var b bytes.Buffer
	for _, name := range slices.Sorted(maps.Keys(record)) {
		fmt.Fprintf(&b, "%s %s\n", record[name], name)
	}
	return b.Bytes()
}

// Replace replaces the contents of a file that is there; it has the old contents or the new ones, whatever happens.
func Replace(name string, text []byte) error {
	info, err := os.Stat(name)
	if err != nil {
		return plain(err)
	}
	// A link is followed, so that what it leads to is replaced and not the link.
	if real, err := filepath.EvalSymlinks(name); err == nil {
		name = real
	}
	staged, err := os.CreateTemp(filepath.Dir(name), ".knothole-")
	if err != nil {
		return plain(err)
	}
	defer os.Remove(staged.Name()) // nothing is there any more when all went well
	if _, err := staged.Write(text); err != nil {
		staged.Close()
		return plain(err)
	}
	if err := staged.Close(); err != nil {
		return plain(err)
	}
	if err := os.Chmod(staged.Name(), info.Mode().Perm()); err != nil {
		return plain(err)
	}
	return plain(os.Rename(staged.Name(), name))
}
