package folder

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"time"

	"knothole/core/source"
	"knothole/outside/gate"
)

// stagingName is the directory, beside the documents, in which files are written in full before they are put in place,
// and in which the journal stands while that is done.
const stagingName = ".knothole-staging"

// The journal says what is to be done when all files are staged. While it is written it has another name, so that one
// that is there is whole: a run that finds it does what is left of it, and undoes what was staged without one.
const (
	journalName    = stagingName + "/journal"
	newJournalName = stagingName + "/journal-new"
)

// step is one line of a journal: a staged file is put in place, or a file is removed. Before is the digest of what
// stands there now, so that what somebody has changed in between is left alone; it is "-" for nothing, and for files
// that have no digest.
type step struct {
	staged int // -1 to remove
	before string
	path   string
}

func staged(i int) string { return path.Join(stagingName, strconv.Itoa(i)) }

func formatJournal(steps []step) []byte {
	var b bytes.Buffer
	for _, s := range steps {
		verb := "put"
		if s.staged < 0 {
			verb = "remove"
		}
		fmt.Fprintf(&b, "%s %d %s %s\n", verb, s.staged, s.before, s.path)
	}
	return b.Bytes()
}

func parseJournal(text []byte) ([]step, error) {
	var steps []step
	for line := range strings.Lines(string(text)) {
		parts := strings.SplitN(strings.TrimSuffix(line, "\n"), " ", 4)
		i, err := strconv.Atoi(append(parts, "")[1])
		if err != nil || len(parts) != 4 {
			return nil, fmt.Errorf("its journal is damaged at the line %q; remove %s and render again",
				strings.TrimSpace(line), stagingName)
		}
		steps = append(steps, step{i, parts[2], parts[3]})
	}
	return steps, nil
}

// recoverRun finishes or undoes a stopped run. A journal may come from a change of the project. A journal for secret
// files counts only if Memory knows it. From any other journal, recoverRun performs only steps that a run could have
// planned itself, for files that match the record.
func recoverRun(d *gate.Root, o Options) error {
	text, exists, err := current(d, journalName)
	if err != nil {
		return err
	}
	if !exists {
		return d.RemoveAll(stagingName)
	}
	if o.Secret && !o.Memory.Began(text) {
		return fmt.Errorf("its journal was not written on this machine: remove %s and render again", stagingName)
	}
	steps, err := parseJournal(text)
	if err != nil {
		return err
	}
	var record map[string]string
	if !o.Secret {
		written, _, err := current(d, RecordName)
		if err == nil {
			record, err = parseRecord(written)
		}
		if err != nil {
			return err
		}
	}
	// A file that is already in place is not removed under a name that is the same to the file system.
	done := map[string]bool{}
	for _, s := range steps {
		if s.staged >= 0 {
			if _, exists, err := current(d, staged(s.staged)); err != nil || !exists {
				done[source.FoldName(s.path)] = true
			}
		}
	}
	for _, s := range steps {
		if done[source.FoldName(s.path)] {
			continue
		}
		now, exists, err := current(d, s.path)
		untouched := s.before == absent && !exists
		if exists && o.Secret {
			untouched = o.Memory.Digest(s.path, now) == s.before
		} else if exists {
			untouched = digestOf(now) == s.before && (record[s.path] == s.before || s.path == RecordName)
		}
		if !untouched || err != nil && !cleared(d, s.path, nil) {
			continue
		}
		if err := apply(d, []step{s}, func() {}); err != nil {
			return err
		}
	}
	return discard(d)
}

// anything matches any digest.
const anything = "*"

// apply does steps. Each is done or not; what is done already is no error.
func apply(d *gate.Root, steps []step, done func()) error {
	made := map[string]bool{".": true}
	for _, s := range steps {
		done()
		if s.staged < 0 {
			if err := remove(d, s.path); err != nil {
				return fmt.Errorf("%s: %w", s.path, gate.Plain(err))
			}
			continue
		}
		if folder := path.Dir(s.path); !made[folder] {
			if err := again(func() error { return d.MkdirAll(folder, 0o755) }); err != nil {
				return fmt.Errorf("%s: %w", folder, gate.Plain(err))
			}
			made[folder] = true
		}
		err := again(func() error { return d.Rename(staged(s.staged), s.path) })
		if err != nil && s.before == absent {
			if info, missing := d.Lstat(s.path); missing == nil && info.IsDir() && cleared(d, s.path, nil) {
				// A run that was stopped removed what was in it.
				if err = d.RemoveAll(s.path); err == nil {
					err = d.Rename(staged(s.staged), s.path)
				}
			}
		}
		if err != nil {
			return fmt.Errorf("%s: %w", s.path, gate.Plain(err))
		}
	}
	return nil
}

// remembers is how long FUSE file systems may cache the old spelling of a name.
const remembers = 1100 * time.Millisecond

// again retries an operation if a name that was just listed is reported as missing.
func again(do func() error) error {
	err := do()
	if errors.Is(err, fs.ErrNotExist) {
		time.Sleep(remembers)
		err = do()
	}
	return err
}

// remove removes a file, and directories that are empty then.
func remove(d *gate.Root, name string) error {
	if err := d.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for folder := path.Dir(name); folder != "."; folder = path.Dir(folder) {
		if d.Remove(folder) != nil {
			break
		}
	}
	return nil
}

// discard takes the staging directory away, the journal first: without it the rest means nothing.
func discard(d *gate.Root) error {
	if err := d.Remove(journalName); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return d.RemoveAll(stagingName)
}
