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

// checkIgnored refuses to write secrets where git would take them up. Git is asked about each file, from the directory
// that they are written around, which is nothing that was rendered.
func (c *call) checkIgnored(around, secretTo, shown string, targets []*target) *refusal {
	var names []string
	for _, t := range targets {
		if !t.options.Secret {
			continue
		}
		for _, f := range t.files {
			names = append(names, filepath.Join(realName(t.base), t.environment, filepath.FromSlash(f.Path)))
		}
	}
	if names == nil {
		return nil
	}
	there := realName(around) // or as much of the way to it as there is
	for {
		if exists, folder, err := gate.Exists(there); exists && folder && err == nil {
			break
		}
		there = filepath.Dir(there)
	}
	refuse := func(why, help string) *refusal { return &refusal{why + ": nothing was written", help} }
	r, err := c.repositoryOf(there, repository.Open)
	if errors.Is(err, repository.ErrNone) {
		return nil
	}
	var open []string
	if err == nil {
		open, err = r.NotIgnored(names)
	}
	switch {
	case err != nil:
		return refuse(fmt.Sprintf("git cannot say whether it ignores %s: %s", c.relative(secretTo), err),
			"fix this first: secrets could be committed")
	case len(open) > 0:
		return refuse(fmt.Sprintf("git does not ignore %s, so that secrets could be committed", c.relative(open[0])),
			"add "+shown+"/ to .gitignore, and nothing that takes a part of it back")
	}
	tracked, err := r.Tracked(names)
	if err != nil {
		return refuse(fmt.Sprintf("git cannot say whether it has %s: %s", c.relative(secretTo), err),
			"fix this first: secrets could be committed")
	}
	if len(tracked) > 0 {
		return refuse(fmt.Sprintf("git already tracks %s, so the secret would be committed", c.relative(tracked[0])),
			"take it out of the repository: git rm --cached, and its history with it")
	}
	if name, err := r.TracksBelow(realName(secretTo)); err != nil || name != "" {
		if err != nil {
			return refuse(fmt.Sprintf("git failed, and may track files in %s: %s", c.relative(secretTo), err),
				"fix this first: secrets could be committed")
		}
		return refuse(fmt.Sprintf("%s is the directory for secret documents, but git tracks %s in it", c.relative(secretTo),
			c.relative(name)), "set secret_out to a directory that git ignores, and remove the tracked files from it")
	}
	return nil
}

// trackedSecrets warns of files with a secret that git tracks, and of a git that fails. Without a repository there are
// no warnings.
func (c *call) trackedSecrets(p *opened) (findings source.Findings) {
	files := p.SecretFiles()
	if files == nil {
		return nil
	}
	names := make([]string, len(files))
	for i, r := range files {
		names[i] = r.Target
	}
	r, err := c.repositoryOf(p.folder, repository.Open)
	var tracked []string
	if err == nil {
		tracked, err = r.Tracked(names)
	}
	if errors.Is(err, repository.ErrNone) {
		return nil
	}
	for _, f := range files {
		warning := source.Finding{Code: source.SecretInFile, Severity: source.Warning, Span: f.Span}
		switch {
		case err != nil:
			warning.Message = fmt.Sprintf("git failed, and may track %s, which holds a secret: %s", f.Target, err)
			warning.Help = "git ls-files in the directory of the project shows why"
		case slices.Contains(tracked, f.Target):
			warning.Message = fmt.Sprintf("%s holds a secret, and git has it: so does everybody who has the "+
				"repository", f.Target)
			warning.Help = "encrypt it, { age = … }, or keep it elsewhere, and change the secret; harmless = true " +
				"says that it protects nothing"
		default:
			continue
		}
		findings.Add(warning)
	}
	return findings
}

// realName returns a path without links, as far as it is there.
func realName(name string) string {
	if real, err := gate.Real(name); err == nil || name == filepath.Dir(name) {
		return real
	}
	return filepath.Join(realName(filepath.Dir(name)), filepath.Base(name))
}

// reservedName reports whether a path in a directory, followed to what it leads to, goes through a directory of git or
// of the program.
func reservedName(folder, name string) bool {
	relative, err := filepath.Rel(realName(folder), realName(name))
	return err == nil && slices.ContainsFunc(strings.Split(filepath.ToSlash(relative), "/"), project.Reserved)
}
