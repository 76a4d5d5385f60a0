package command

import (
	"errors"
	"fmt"
	"strings"

	"knothole/core/project"
	"knothole/outside/repository"
)

// revision is a project as it was at a revision.
type revision struct {
	name    string // as a person wrote it; empty for the files as they are
	project *project.Project
}

// atRevision loads the project of a folder as it was at a revision.
func (c *call) atRevision(p *opened, name string) (*revision, int) {
	r, status := c.repository(p, name)
	if r == nil {
		return nil, status
	}
	commit, err := r.Commit(name)
	if err != nil {
		return nil, c.failed("%s", err)
	}
	files, err := r.Files(commit)
	if err != nil {
		return nil, c.failed("%s: %s", name, err)
	}
	if files[project.FileName] == nil {
		return nil, c.failed("%s: there was no %s in this folder", name, project.FileName)
	}
	then, err := project.LoadWithoutRules(repository.Tree(files))
	if err != nil {
		return nil, c.failed("%s: %s", name, plainError(err))
	}
	return &revision{name, then}, exitClean
}

// repository opens the repository of a project, in which a revision is wanted; when it cannot, it says so.
func (c *call) repository(p *opened, revision string) (*repository.Repository, int) {
	r, err := repository.Open(p.folder)
	if errors.Is(err, repository.ErrNone) {
		err = errors.New("the project is in no git repository")
	}
	if err != nil {
		return nil, c.failed("%s: %s", revision, err)
	}
	return r, exitClean
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
	return exitFindings
}
