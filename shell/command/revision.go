package command

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"knothole/core/project"
	"knothole/outside/repository"
)

// revision is a project as it was at a revision.
type revision struct {
	name    string // as a person wrote it; empty for the files as they are
	project *project.Project
}

// atRevision loads the project of a directory as it was at a revision.
func (c *call) atRevision(p *opened, name string) (*revision, int) {
	r, status := c.repository(p, name)
	if r == nil {
		return nil, status
	}
	commit, err := r.Commit(name)
	if err != nil {
		return nil, c.failed("%s", err)
	}
	files, err := r.Tree(commit)
	if err != nil {
		return nil, c.failed("%s: %s", name, err)
	}
	then, err := project.LoadWith(files, project.Loading{Context: c.ctx, After: c.snapshot})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, c.failed("%s: there was no %s in this directory", name, project.FileName)
	}
	if err != nil {
		return nil, c.failed("%s: %s", name, plainError(err))
	}
	c.snapshot = then.Snapshot
	return &revision{name, then}, exitClean
}

// repository opens the repository of a project, in which a revision is wanted; when it cannot, it says so.
func (c *call) repository(p *opened, revision string) (*repository.Repository, int) {
	open := repository.Open
	if p.Project == nil && c.project != "" {
		open = repository.OpenNamed
	}
	r, err := c.repositoryOf(p.folder, open)
	if errors.Is(err, repository.ErrNone) {
		err = errors.New("the project is in no git repository")
		if p.Project == nil && c.project == "" && repository.IsBare(p.folder) {
			err = errors.New("a bare repository is read only when it is named: --project DIR")
		}
	}
	if err != nil {
		return nil, c.failed("%s: %s", revision, err)
	}
	return r, exitClean
}

// repositoryOf opens the repository of a directory, once for each directory.
func (c *call) repositoryOf(folder string, open func(string) (*repository.Repository, error)) (*repository.Repository,
	error) {
	if r := c.repositories[folder]; r != nil {
		return r, nil
	}
	r, err := open(folder)
	if err != nil {
		return nil, err
	}
	if c.repositories == nil {
		c.repositories = map[string]*repository.Repository{}
	}
	c.repositories[folder] = r
	return r, nil
}

func (c *call) closeRepositories() {
	for _, r := range c.repositories {
		r.Close()
	}
}

// parted returns the last commit that two revisions have in common; when there is none, it says so.
func (c *call) parted(p *opened, revision, other string) (commit string, status int) {
	r, status := c.repository(p, revision)
	if r == nil {
		return "", status
	}
	commit, err := r.Parted(revision, other)
	if err != nil {
		return "", c.failed("%s", err)
	}
	return commit, exitClean
}

// splitRevision takes ENV@REVISION apart; revision is empty when there is none.
func splitRevision(name string) (environment, revision string) {
	environment, revision, _ = strings.Cut(name, "@")
	return environment, revision
}

// broken says that a revision cannot be rendered.
func (c *call) broken(name string) int {
	fmt.Fprintf(c.err, "\n%s cannot be rendered: nothing was compared\n", name)
	return exitFailed
}
