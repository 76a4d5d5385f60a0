package command

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"knothole/core/project"
	"knothole/core/source"
	"knothole/outside/gate"
	"knothole/outside/repository"
)

// checkIgnored refuses to write secrets where git would take them up. Git is asked about each file, from the folder
// that they are written around, which is nothing that was rendered.
func (c *call) checkIgnored(around, secretTo, shown string, targets []*target) int {
	var names []string
	for _, t := range targets {
		if !t.options.Secret {
			continue
		}
		for _, f := range t.files {
			names = append(names, filepath.Join(realName(t.base), t.environment.Name, filepath.FromSlash(f.Path)))
		}
	}
	if names == nil {
		return exitClean
	}
	there := realName(around) // or as much of the way to it as there is
	for {
		if exists, folder, err := gate.Exists(there); exists && folder && err == nil {
			break
		}
		there = filepath.Dir(there)
	}
	refuse := func(why, help string) int {
		return c.failed("%s: nothing was written\n  %s", why, help)
	}
	open, err := notIgnored(there, names)
	switch {
	case errors.Is(err, repository.ErrNone):
		return exitClean
	case err != nil:
		return refuse(fmt.Sprintf("git cannot say whether it ignores %s: %s", c.relative(secretTo), err),
			"mend that first: else secrets could be committed")
	case len(open) > 0:
		return refuse(fmt.Sprintf("git does not ignore %s, so that secrets could be committed", c.relative(open[0])),
			"add "+shown+"/ to .gitignore, and nothing that takes a part of it back")
	}
	tracked, err := repository.Git(there, nil, append([]string{"ls-files", "-z", "--"}, names...)...)
	if err != nil {
		return refuse(fmt.Sprintf("git cannot say whether it has %s: %s", c.relative(secretTo), err),
			"mend that first: else secrets could be committed")
	}
	if name, _, _ := strings.Cut(string(tracked), "\x00"); name != "" {
		return refuse(fmt.Sprintf("git has %s already, so that the secret would be committed",
			c.relative(filepath.Join(there, filepath.FromSlash(name)))),
			"take it out of the repository: git rm --cached, and its history with it")
	}
	return exitClean
}

// trackedSecrets warns of files that hold a secret and that git has. Where there is no repository, or git cannot say,
// there is nothing to warn of.
func trackedSecrets(p *opened) (findings source.Findings) {
	files := p.SecretFiles()
	if files == nil {
		return nil
	}
	names := make([]string, len(files))
	for i, r := range files {
		names[i] = r.Target
	}
	tracked, err := repository.Git(p.folder, nil, append([]string{"ls-files", "-z", "--"}, names...)...)
	if err != nil {
		return nil
	}
	has := strings.Split(string(tracked), "\x00")
	for _, r := range files {
		if slices.Contains(has, r.Target) {
			findings.Add(source.Finding{Code: source.SecretInFile, Severity: source.Warning, Span: r.Span,
				Message: fmt.Sprintf("%s holds a secret, and git has it: so does everybody who has the "+
					"repository", r.Target),
				Help: "encrypt it, { age = … }, or keep it elsewhere, and change the secret; harmless = true says " +
					"that it " +
					"protects nothing"})
		}
	}
	return findings
}

// notIgnored returns the files of some that git would take up.
func notIgnored(folder string, names []string) ([]string, error) {
	said, err := repository.Git(folder, []byte(strings.Join(names, "\x00")+"\x00"), "check-ignore",
		"--stdin", "-z", "--no-index")
	if err != nil && !repository.Said(err, 1) { // that it ignores none
		return nil, err
	}
	ignored := map[string]bool{}
	for _, name := range strings.Split(string(said), "\x00") {
		ignored[name] = true
	}
	var open []string
	for _, name := range names {
		if !ignored[name] {
			open = append(open, name)
		}
	}
	return open, nil
}

// realName returns a path without links, as far as it is there.
func realName(name string) string {
	if real, err := gate.Real(name); err == nil || name == filepath.Dir(name) {
		return real
	}
	return filepath.Join(realName(filepath.Dir(name)), filepath.Base(name))
}

// reservedName reports whether a path in a folder, followed to what it leads to, goes through a folder of git or of the
// program.
func reservedName(folder, name string) bool {
	relative, err := filepath.Rel(realName(folder), realName(name))
	return err == nil && slices.ContainsFunc(strings.Split(filepath.ToSlash(relative), "/"), project.Reserved)
}
