package explain

import (
	"knothole/core/project"
)

// Told is what a value depends on in the environment that told it, by one of its outputs.
type Told struct {
	Name   string // of the input that was told, with the path in it
	By     *project.Run
	Leaves []Leaf
	Told   []Told // what told that environment
}

// maxTold bounds how far it is followed which environment told another.
const maxTold = 8

// followed returns what names of inputs depend on in the environments that told them.
func followed(run *project.Run, names []string, depth int) (all []Told) {
	if depth == 0 {
		return nil
	}
	for _, name := range names {
		if name == EnvironmentName {
			continue
		}
		told := run.OutputOf(Tokens(name))
		if told == nil {
			continue
		}
		one := Told{Name: name, By: told.Run, Leaves: deep(told.World.Recorder(), told.Value)}
		var further []string
		for _, leaf := range one.Leaves {
			further = append(further, leaf.Name)
		}
		one.Told = followed(told.Run, further, depth-1)
		all = append(all, one)
	}
	return all
}
