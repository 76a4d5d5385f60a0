package command

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"

	"knothole/core/source"
	"knothole/outside/cache"
	"knothole/outside/folder"
	"knothole/outside/gate"
	"knothole/outside/repository"
)

// leftovers are the directories of environments that are gone, in those for rendered files and for secret ones.
type leftovers struct{ plain, secret []string }

// leftovers finds what was rendered for environments that the project does not have any more.
func (c *call) leftovers(p *opened) leftovers {
	var names []string
	for _, e := range p.Concrete() {
		names = append(names, e.Name)
	}
	at := func(to string) string { return filepath.Join(p.folder, filepath.FromSlash(to)) }
	return leftovers{folder.Orphans(at(p.Out), names, nil), folder.Orphans(at(p.SecretOut), names,
		func(name string) bool {
			return len(cache.OpenWritten(c.disk, filepath.Join(realName(at(p.SecretOut)), name)).Names()) > 0
		})}
}

// recoverable returns what decides whether a file may be removed that was rendered for an environment that is gone:
// git has it as it is, or the cache knows that this machine rendered it. A record alone may have come with a change.
func (c *call) recoverable(p *opened, at string) func(name string, text []byte) bool {
	known := cache.Open(c.disk, at, true)
	r, err := c.repositoryOf(p.folder, repository.Open)
	return func(name string, text []byte) bool {
		return known.Knows(folder.Digest(text)) || err == nil && r.Has(filepath.Join(realName(at), name), text)
	}
}

// shown returns the directories as seen from the working directory.
func (l leftovers) shown(c *call, p *opened) (names []string) {
	for _, name := range l.plain {
		names = append(names, c.relative(filepath.Join(p.folder, filepath.FromSlash(path.Join(p.Out, name)))))
	}
	for _, name := range l.secret {
		names = append(names, c.relative(filepath.Join(p.folder, filepath.FromSlash(path.Join(p.SecretOut, name)))))
	}
	return names
}

// targets are the directories with no document that is to be there: what was rendered is removed as that of an
// environment is which has a document less, and a file that others made or changed is in the way.
func (l leftovers) targets(c *call, p *opened, d *destination, options folder.Options) (targets []*target) {
	options.Partial = false
	add := func(base string, names []string, secret bool) {
		options.Secret = secret
		for _, name := range names {
			at := filepath.Join(base, name)
			options.Memory, options.Recoverable = nil, nil
			if secret {
				options.Memory = cache.OpenWritten(c.disk, filepath.Join(realName(base), name))
			} else {
				options.Recoverable = c.recoverable(p, at)
			}
			targets = append(targets, &target{environment: name, base: base, options: options, pruned: true})
		}
	}
	add(d.to, l.plain, false)
	add(d.secretTo, l.secret, true)
	return targets
}

// remove removes the directories, now that they hold nothing that was rendered, unless others keep something there.
func (l leftovers) remove(c *call, targets []*target) {
	for _, t := range targets {
		if !t.pruned {
			continue
		}
		at := filepath.Join(t.base, t.environment)
		summary := t.plan.Summary()
		removed := source.Count(len(summary.Removed), "rendered file")
		if len(summary.Left) > 0 {
			fmt.Fprintf(c.err, "%s: %s removed, and these stay because neither git nor the cache knows them: %s\n"+
				"  remove them yourself, or use --overwrite\n", c.relative(at), removed,
				source.FirstQuoted(summary.Left, fewChanges))
			continue
		}
		if err := gate.RemoveWith(at, folder.RecordName); err != nil {
			fmt.Fprintf(c.err, "%s: %s removed; the directory stays, since others keep files in it\n", c.relative(at),
				removed)
		} else if !c.quiet {
			fmt.Fprintf(c.err, "%s is removed, with %s\n", c.relative(at), removed)
		}
	}
}

// leftoverFindings are those of check --rendered.
func (c *call) leftoverFindings(p *opened) (all []committed) {
	l := c.leftovers(p)
	add := func(base string, names []string) {
		for _, name := range slices.Sorted(slices.Values(names)) {
			f := renderedFinding(source.Span{}, "", "knothole render --prune removes it",
				"%s is left over from an environment that no longer exists", path.Join(base, name))
			f.Environments = nil
			all = append(all, committed{finding: f})
		}
	}
	add(p.Out, l.plain)
	add(p.SecretOut, l.secret)
	return all
}
