// Package folder writes rendered documents into a directory of the machine. It exists to keep what people made: it
// writes all or, when something stands against it, nothing, it touches no file that it did not write itself, and a
// run that is stopped half-way is finished or undone by the next.
package folder

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"knothole/core/source"
	"knothole/outside/gate"
)

// RecordName is the file beside the documents that says what was written: one line for each document, its SHA-256
// and its path, sorted by path.
const RecordName = ".knothole-record"

// File is one document as it is to be written; Path is relative to the directory, with forward slashes.
type File struct {
	Path string
	Data []byte
	// Digest is that of the data; empty when it is not known yet. With it alone, Make makes the data if it is needed.
	Digest string
	Make   func() ([]byte, error)
}

// ready encodes the data if that has not been done.
func (f *File) ready() error {
	if f.Make == nil {
		return nil
	}
	return f.load()
}

// load makes the data, and finds its digest anew.
func (f *File) load() (err error) {
	f.Data, err = f.Make()
	f.Make, f.Digest = nil, digestOf(f.Data)
	return err
}

// Options say how to write.
type Options struct {
	// Overwrite also replaces and removes files that were changed since, or that were never written by the program.
	Overwrite bool
	// Partial says that the files are only some of the documents: nothing is removed.
	Partial bool
	// Secret files are readable only by their owner. Earlier files are known only from Memory: the directory has no
	// record of them, so a change of the project cannot forge one.
	Secret bool
	Memory Memory // of secret files; nil when nothing is known
	// Recoverable returns the files that can be restored after removal. If it is nil, every file that matches the
	// record may be removed.
	Recoverable func(name string, text []byte) bool
	// Done is called for each document that was looked at by Prepare, and for each step of Stage and Commit; nil for
	// nobody.
	Done func()

	// Disk is where the files are written; nil for the machine's.
	Disk *gate.Disk
}

// Memory records the secret files of one directory, outside of the project.
type Memory interface {
	// Names are the paths of the files that were written.
	Names() []string
	// Wrote reports whether the program wrote exactly this into a file.
	Wrote(name string, text []byte) bool
	// Digest returns the keyed digest of the contents of a file.
	Digest(name string, text []byte) string
	// Began reports whether a journal belongs to a stopped run.
	Began(journal []byte) bool
	// Begin records the files that will be written, and the journal; End those that were written or removed.
	Begin(journal []byte, files map[string][]byte) error
	End(files map[string][]byte, removed []string) error
}

// forgetful is an empty Memory that records nothing.
type forgetful struct{}

func (forgetful) Names() []string                       { return nil }
func (forgetful) Wrote(string, []byte) bool             { return false }
func (forgetful) Digest(string, []byte) string          { return anything }
func (forgetful) Began([]byte) bool                     { return false }
func (forgetful) Begin([]byte, map[string][]byte) error { return nil }
func (forgetful) End(map[string][]byte, []string) error { return nil }

// Summary lists the paths of files by what happened to them, sorted. Left are files that were not removed because they
// could not be restored.
type Summary struct{ Written, Unchanged, Removed, Left []string }

// Refusal says that what other people made or changed is in the way. Nothing was written.
type Refusal struct {
	Folder string
	// Changed are the paths of files that were changed since they were written, or that were never written by the
	// program; Blocked are those of documents where something stands that is never replaced, and what it is. Both are
	// sorted.
	Changed []string
	Blocked []Blocked
}

// Blocked is a document that cannot be written, since something else is there.
type Blocked struct{ Path, By string }

// Error names what is in the way.
func (r *Refusal) Error() string {
	var all []string
	for _, name := range r.Changed {
		all = append(all, name+": was not written by knothole, or was edited afterwards")
	}
	for _, b := range r.Blocked {
		all = append(all, b.Path+": "+b.By)
	}
	return r.Folder + ": " + strings.Join(all, "; ")
}

// add notes what is in the way of a path, if that is what the error says.
func (r *Refusal) add(name string, err error) bool {
	var o obstacle
	if !errors.As(err, &o) {
		return false
	}
	r.Blocked = append(r.Blocked, Blocked{name, string(o)})
	return true
}

// Plan is what is to be done in one directory; it has been checked that it can be.
type Plan struct {
	base, environment string
	options           Options
	write             []File
	steps             []step
	summary           Summary
	root              *gate.Root
	fresh             bool // the directory was not there when the plan was made
	begun             bool // files are staged, or were tried to be
}

// planning is what Prepare finds out on the way to a plan.
type planning struct {
	*Plan
	directory string
	existing  *gate.Root        // the directory; nil when there is none yet
	there     *reader           // of what is in it
	before    map[string]string // the digests of what was written before, by path
	oldRecord []byte            // in which they stand
	record    map[string]string // the digests that will be there
	gone      map[string]string // what was written before and is no longer rendered
	recased   map[string]bool   // what is gone and is rendered under a name that differs in case, by what both are folded
	refusal   *Refusal
}

// Prepare finds out what is to be written into the directory of an environment in a directory for rendered files, which
// need not exist. What a run left there that was stopped is finished or undone first. The error is a *Refusal when
// files are in the way.
func Prepare(base, environment string, files []File, options Options) (*Plan, error) {
	if options.Done == nil {
		options.Done = func() {}
	}
	if options.Memory == nil {
		options.Memory = forgetful{}
	}
	p := &planning{Plan: &Plan{base: base, environment: environment, options: options},
		directory: filepath.Join(base, environment), before: map[string]string{},
		record: make(map[string]string, len(files)), gone: map[string]string{}, recased: map[string]bool{}}
	p.refusal = &Refusal{Folder: p.directory}
	root, err := open(options.Disk, base, environment)
	if err != nil {
		return nil, gate.Failed(p.directory, err)
	}
	if root != nil {
		defer root.Close()
		p.existing = root
		if err := p.readBefore(); err != nil {
			return nil, err
		}
	}
	p.fresh = root == nil
	p.there = &reader{root: root}
	defer p.there.close()
	p.fillRecord(files)
	// Files are removed first: a directory may take the place of one, or one that of a directory.
	if err := p.removeGone(); err != nil {
		return nil, err
	}
	for i := range files {
		options.Done()
		if err := p.place(&files[i]); err != nil {
			return nil, err
		}
	}
	if r := p.refusal; len(r.Changed)+len(r.Blocked) > 0 {
		slices.Sort(r.Changed)
		slices.SortFunc(r.Blocked, func(a, b Blocked) int { return strings.Compare(a.Path, b.Path) })
		return nil, r
	}
	if text := formatRecord(p.record); !options.Secret && !bytes.Equal(text, PlainLines(p.oldRecord)) {
		p.put(File{Path: RecordName, Data: text}, p.stands(RecordName, p.oldRecord, p.oldRecord != nil))
	}
	for _, names := range []*[]string{&p.summary.Written, &p.summary.Unchanged, &p.summary.Removed,
		&p.summary.Left} {
		slices.Sort(*names)
	}
	return p.Plan, nil
}

// readBefore puts the directory in order and reads the record of what was written into it before.
func (p *planning) readBefore() error {
	if _, err := p.existing.Lstat(stagingName); err == nil {
		if err := recoverRun(p.existing, p.options); err != nil {
			return gate.Failed(p.directory, fmt.Errorf("what a run left that was stopped cannot be finished: %w",
				gate.Plain(err)))
		}
	}
	if p.options.Secret {
		if err := tighten(p.existing); err != nil {
			return gate.Failed(p.directory, err)
		}
		for _, name := range p.options.Memory.Names() {
			p.before[name] = anything
		}
		return nil
	}
	text, _, err := current(p.existing, RecordName)
	if err == nil {
		p.oldRecord = text
		p.before, err = parseRecord(text)
	}
	if err != nil {
		return gate.Failed(path.Join(p.directory, RecordName), err)
	}
	return nil
}

// fillRecord notes the digests of all files, as far as they are known, and what is gone.
func (p *planning) fillRecord(files []File) {
	for i := range files {
		f := &files[i]
		if f.Digest == "" {
			f.Digest = digestOf(f.Data)
		}
		p.record[f.Path] = f.Digest
	}
	for name, digest := range p.before {
		if _, ok := p.record[name]; ok {
			continue
		}
		if p.options.Partial {
			p.record[name] = digest
		} else {
			p.gone[name] = digest
		}
	}
	if len(p.gone) == 0 {
		return
	}
	wanted := make(map[string]bool, len(files))
	for i := range files {
		wanted[source.FoldName(files[i].Path)] = true
	}
	for name := range p.gone {
		if folded := source.FoldName(name); wanted[folded] {
			p.recased[folded] = true
		}
	}
}

// removeGone plans the removal of what is gone.
func (p *planning) removeGone() error {
	for _, name := range slices.Sorted(maps.Keys(p.gone)) {
		if p.recased[source.FoldName(name)] && !p.separate(name) {
			continue // it is the same file, which gets its name where that is planned
		}
		text, exists, err := p.there.current(name)
		var o obstacle
		switch {
		case err != nil && !errors.As(err, &o):
			return gate.Failed(path.Join(p.directory, name), err)
		case !exists: // nor is it when something else is there
			continue
		case !p.ours(name, text) && !p.options.Overwrite:
			p.refusal.Changed = append(p.refusal.Changed, name)
			continue
		case p.options.Recoverable != nil && !p.options.Recoverable(name, text) && !p.options.Overwrite:
			p.summary.Left = append(p.summary.Left, name)
			p.record[name] = p.gone[name]
			continue
		}
		p.steps = append(p.steps, step{-1, p.stands(name, text, true), name})
		p.summary.Removed = append(p.summary.Removed, name)
	}
	return nil
}

// place plans how one file gets to its place.
func (p *planning) place(f *File) error {
	text, exists, err := p.there.current(f.Path)
	if p.recased[source.FoldName(f.Path)] && exists && err == nil {
		if now := spelling(p.existing.FS(), f.Path); now != f.Path {
			return p.recase(f, now, text)
		}
	}
	if f.Make != nil {
		// What is remembered of a run before counts only where the record, too, says that this was written.
		if err == nil && exists && p.before[f.Path] == f.Digest && digestOf(text) == f.Digest {
			p.summary.Unchanged = append(p.summary.Unchanged, f.Path)
			return nil
		}
		if err := f.load(); err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
		p.record[f.Path] = f.Digest
	}
	switch {
	case err != nil && cleared(p.existing, f.Path, p.gone):
	case p.refusal.add(f.Path, err):
	case err != nil:
		return gate.Failed(path.Join(p.directory, f.Path), err)
	case exists && bytes.Equal(text, f.Data) && (!p.options.Secret || onlyForOwner(p.existing, f.Path)):
		p.summary.Unchanged = append(p.summary.Unchanged, f.Path)
		return nil
	case exists && !bytes.Equal(text, f.Data) && !p.ours(f.Path, text) && !p.options.Overwrite:
		p.refusal.Changed = append(p.refusal.Changed, f.Path)
	}
	p.put(*f, p.stands(f.Path, text, exists))
	p.summary.Written = append(p.summary.Written, f.Path)
	return nil
}

// recase plans the renaming of a file whose old name is the same to the file system: the old file is removed first.
func (p *planning) recase(f *File, now string, text []byte) error {
	if err := f.ready(); err != nil {
		return fmt.Errorf("%s: %w", f.Path, err)
	}
	p.record[f.Path] = f.Digest
	if !p.ours(now, text) && !p.ours(f.Path, text) && !bytes.Equal(text, f.Data) && !p.options.Overwrite {
		p.refusal.Changed = append(p.refusal.Changed, f.Path)
		return nil
	}
	p.steps = append(p.steps, step{-1, p.stands(now, text, true), now})
	p.put(*f, absent)
	p.summary.Written = append(p.summary.Written, f.Path)
	return nil
}

// put plans that a file is written where before stood.
func (p *planning) put(f File, before string) {
	p.steps = append(p.steps, step{len(p.write), before, f.Path})
	p.write = append(p.write, f)
}

// others are the bits of a mode that let anybody but the owner in.
const others fs.FileMode = 0o077

// tighten takes the directory of secret files away from all but their owner.
func tighten(d *gate.Root) error {
	info, err := d.Lstat(".")
	if err != nil || info.Mode()&others == 0 {
		return err
	}
	return d.Chmod(".", 0o700)
}

// onlyForOwner reports whether nobody but its owner may read a file.
func onlyForOwner(d *gate.Root, name string) bool {
	info, err := d.Lstat(name)
	return err == nil && (info.Mode()&others == 0 || !gate.HasModes)
}

// ours reports whether a file is unchanged since it was written, except for line endings, which a checkout may change.
func (p *planning) ours(name string, text []byte) bool {
	if p.options.Secret {
		return p.options.Memory.Wrote(name, text)
	}
	digest := p.before[name]
	return digest != "" && (digest == digestOf(text) || digest == digestOf(PlainLines(text)))
}

// PlainLines returns a text with LF at the ends of its lines, in the place of CRLF.
func PlainLines(text []byte) []byte { return bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n")) }

// SameLines reports whether two texts differ at most in line endings.
func SameLines(a, b []byte) bool { return bytes.Equal(PlainLines(a), PlainLines(b)) }

// spelling returns the actual name of a file, which may differ in case on file systems that ignore it. Inode numbers
// cannot show this, because some file systems derive them from names.
func spelling(files fs.FS, name string) string {
	real := "."
	for _, part := range strings.Split(name, "/") {
		entries, err := fs.ReadDir(files, real)
		if err != nil {
			return name
		}
		as := ""
		for _, e := range entries {
			if e.Name() == part {
				as = part
				break
			}
			if source.FoldName(e.Name()) == source.FoldName(part) {
				as = e.Name()
			}
		}
		if as == "" {
			return name
		}
		real = path.Join(real, as)
	}
	return real
}

// separate reports whether an old file and a rendered one, whose names differ only in case, are different files to the
// file system.
func (p *planning) separate(name string) bool {
	if p.existing == nil || spelling(p.existing.FS(), name) != name {
		return false
	}
	_, err := p.existing.Lstat(source.SwapCase(name))
	return err != nil || spelling(p.existing.FS(), source.SwapCase(name)) == source.SwapCase(name)
}

// absent is written to a journal in place of the digest of a missing file.
const absent = "-"

// stands returns the digest of what is in a place, for the journal.
func (p *Plan) stands(name string, text []byte, exists bool) string {
	switch {
	case !exists:
		return absent
	case p.options.Secret:
		return p.options.Memory.Digest(name, text)
	}
	return digestOf(text)
}

// Steps returns how many steps Commit takes.
func (p *Plan) Steps() int { return len(p.steps) }

// Summary returns what the plan does.
func (p *Plan) Summary() Summary { return p.summary }

// modes returns the modes of files and directories.
func (p *Plan) modes() (file, folder fs.FileMode) {
	if p.options.Secret {
		return 0o600, 0o700
	}
	return 0o644, 0o755
}

// Stage writes every file in full beside its final name, so that a full disk leaves everything as it was. Nothing gets
// its name yet; Sync comes first. When it fails, what was staged is gone.
func (p *Plan) Stage() error {
	if len(p.steps) == 0 {
		return nil
	}
	p.begun = true
	fileMode, folderMode := p.modes()
	root, err := p.create(folderMode)
	if err != nil {
		return gate.Failed(filepath.Join(p.base, p.environment), err)
	}
	p.root = root
	if err := p.stage(fileMode, folderMode); err != nil {
		p.Cancel()
		return err
	}
	return nil
}

func (p *Plan) stage(fileMode, folderMode fs.FileMode) error {
	failed := func(name string, err error) error {
		return gate.Failed(filepath.Join(p.base, p.environment, name), err)
	}
	if err := p.root.RemoveAll(stagingName); err != nil {
		return failed(stagingName, err)
	}
	if err := p.root.Mkdir(stagingName, folderMode); err != nil {
		return failed(stagingName, err)
	}
	staging, err := p.root.OpenRoot(stagingName)
	if err != nil {
		return failed(stagingName, err)
	}
	defer staging.Close()
	for i, f := range p.write {
		if err := staging.WriteFile(strconv.Itoa(i), f.Data, fileMode); err != nil {
			return failed(f.Path, err)
		}
		mode := fileMode
		if !p.options.Secret && !p.fresh {
			if info, err := p.root.Lstat(f.Path); err == nil && info.Mode().IsRegular() {
				mode = info.Mode().Perm() // a file that is replaced keeps its mode
			}
		}
		if mode != fileMode || p.options.Secret { // which the mask of the user does not change
			if err := staging.Chmod(strconv.Itoa(i), mode); err != nil {
				return failed(f.Path, err)
			}
		}
		if !p.options.Secret { // of which Memory has to know the contents
			p.write[i] = File{}
		}
	}
	if !p.options.Secret {
		p.write = nil
	}
	if err := p.root.WriteFile(newJournalName, formatJournal(p.steps), 0o600); err != nil {
		return failed(newJournalName, err)
	}
	return nil
}

// Sync makes sure that what is staged is on the disk before anything gets its name, also when the machine loses power.
// When it fails, what was staged is gone.
func (p *Plan) Sync() error {
	if p.root == nil {
		return nil
	}
	if err := p.root.Sync(stagingName); err != nil {
		p.Cancel()
		return gate.Failed(filepath.Join(p.base, p.environment, stagingName), err)
	}
	return nil
}

// Cancel takes away what was staged.
func (p *Plan) Cancel() {
	if !p.begun {
		return
	}
	if p.root != nil {
		_ = p.root.RemoveAll(stagingName) // the next run clears what is left
		p.root.Close()
		p.root = nil
	}
	p.options.Disk.RemoveEmpty(filepath.Join(p.base, p.environment))
	p.options.Disk.RemoveEmpty(p.base)
}

// Commit puts all that was staged in place. Once it has begun, the next run finishes what it leaves. Done is called for
// each step; nil for nobody.
func (p *Plan) Commit(done func()) error {
	if done == nil {
		done = func() {}
	}
	if p.root == nil {
		return nil
	}
	defer func() {
		p.root.Close()
		p.root = nil
	}()
	failed := func(err error) error {
		return gate.Failed(filepath.Join(p.base, p.environment),
			fmt.Errorf("%w; the next run finishes what is left", gate.Plain(err)))
	}
	written := map[string][]byte{}
	for _, f := range p.write {
		written[f.Path] = f.Data
	}
	// Without a cache, the next run treats the files of this one as foreign.
	if p.options.Secret {
		_ = p.options.Memory.Begin(formatJournal(p.steps), written)
	}
	if err := p.root.Rename(newJournalName, journalName); err != nil {
		return failed(err)
	}
	if err := apply(p.root, p.steps, done); err != nil {
		return failed(err)
	}
	if err := discard(p.root); err != nil {
		return failed(err)
	}
	if p.options.Secret {
		var removed []string
		for _, s := range p.steps {
			if _, again := written[s.path]; s.staged < 0 && !again {
				removed = append(removed, s.path)
			}
		}
		_ = p.options.Memory.End(written, removed)
	}
	return nil
}

// Reader reads what was rendered for one environment, and nothing that is elsewhere.
type Reader struct {
	directory string
	root      *gate.Root // nil when nothing is there
	files     *reader
}

// Read opens what was rendered for an environment in a directory for rendered files; nothing need be there.
func Read(base, environment string) (*Reader, error) {
	directory := filepath.Join(base, environment)
	root, err := open(nil, base, environment)
	if err != nil {
		return nil, gate.Failed(directory, err)
	}
	return &Reader{directory, root, &reader{root: root}}, nil
}

// Close gives the directory back.
func (r *Reader) Close() {
	r.files.close()
	if r.root != nil {
		r.root.Close()
	}
}

// Record returns the digests of what was written, by path; none when there is no record.
func (r *Reader) Record() (map[string]string, error) {
	if r.root == nil {
		return nil, nil
	}
	text, _, err := current(r.root, RecordName)
	if err != nil {
		return nil, gate.Failed(filepath.Join(r.directory, RecordName), err)
	}
	record, err := parseRecord(text)
	if err != nil {
		return nil, gate.Failed(filepath.Join(r.directory, RecordName), err)
	}
	return record, nil
}

// File returns the contents of a file, and whether it is there. A link, a pipe or a device is an error.
func (r *Reader) File(name string) (text []byte, exists bool, err error) {
	return r.files.current(name)
}

// Digest returns the digest of a file as the record has it.
func Digest(text []byte) string { return digestOf(text) }

// Orphans returns the directories that the program wrote but that belong to no environment. It recognizes them by
// their records, or by written.
func Orphans(base string, environments []string, written func(name string) bool) []string {
	root, err := gate.OpenRoot(base)
	if err != nil {
		return nil
	}
	defer root.Close()
	entries, err := fs.ReadDir(root.FS(), ".")
	if err != nil {
		return nil
	}
	var names []string
	for _, e := range entries {
		if !e.IsDir() || slices.ContainsFunc(environments, func(name string) bool { return isOne(root, name, e.Name()) }) {
			continue
		}
		if written == nil {
			if _, err := root.Lstat(path.Join(e.Name(), RecordName)); err != nil {
				continue
			}
		} else if !written(e.Name()) {
			continue
		}
		names = append(names, e.Name())
	}
	return names
}

// attributesName is the file that keeps git from changing line endings of rendered files (gitattributes(5)).
const attributesName = ".gitattributes"

// Attributes writes the git attributes into a directory for rendered files, if they do not exist. A failure is ignored:
// a checkout with other line endings is then reported as different.
func Attributes(disk *gate.Disk, base string) {
	root, err := disk.OpenRoot(base)
	if err != nil {
		return
	}
	defer root.Close()
	if _, err := root.Lstat(attributesName); errors.Is(err, fs.ErrNotExist) {
		_ = root.Create(attributesName, []byte("* -text\n"), 0o644)
	}
}

// isOne reports whether the file system treats the names of an environment and a directory as the same.
func isOne(root *gate.Root, environment, folder string) bool {
	if environment == folder || source.FoldName(environment) != source.FoldName(folder) {
		return environment == folder
	}
	_, err := root.Lstat(environment)
	return err == nil && spelling(root.FS(), environment) != environment
}

func digestOf(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// parseRecord reads a record with any line endings.
func parseRecord(text []byte) (map[string]string, error) {
	record, number := map[string]string{}, 0
	for line := range strings.Lines(string(PlainLines(text))) {
		number++
		digest, name, ok := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		if !ok || name == "." || len(digest) != 2*sha256.Size || !fs.ValidPath(name) {
			return nil, fmt.Errorf("line %d is not a digest and a path; remove the file to start a new record", number)
		}
		record[name] = digest
	}
	return record, nil
}

func formatRecord(record map[string]string) []byte {
	var b bytes.Buffer
	for _, name := range slices.Sorted(maps.Keys(record)) {
		fmt.Fprintf(&b, "%s %s\n", record[name], name)
	}
	return b.Bytes()
}
