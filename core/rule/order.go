package rule

import (
	"knothole/core/eval"
	"knothole/core/project"
	"knothole/core/render"
)

// Ordered returns objects so that what others name is before those, and otherwise in their order: by the links of
// the project and those between the common kinds. Where objects name each other in a cycle, their order stays.
func Ordered(p *project.Project, objects []render.Object, builtins *eval.Builtins) []render.Object {
	all := make([]Object, len(objects))
	position := map[*Object]int{}
	for i, o := range objects {
		all[i] = Object{Path: o.Path, Data: o.Value}
		position[&all[i]] = i
	}
	needs := make([][]int, len(objects))
	note := func(references []reference) {
		for _, r := range references {
			for _, o := range r.needs {
				needs[position[r.from]] = append(needs[position[r.from]], position[o])
			}
		}
	}
	c := newCommon(all, nil)
	c.names = true
	note(c.references())
	links, _ := ReadLinks(p, builtins)
	for _, l := range links {
		if !l.bad && !l.Kinds && !l.Labels {
			references, _ := l.references(&set{objects: all})
			note(references)
		}
	}
	ordered := make([]render.Object, 0, len(objects))
	const waiting, going, done = 0, 1, 2
	state := make([]int, len(objects))
	type visit struct{ object, next int }
	for i := range objects {
		for stack := []visit{{i, 0}}; len(stack) > 0; {
			at := &stack[len(stack)-1]
			if at.next == 0 {
				if state[at.object] != waiting {
					stack = stack[:len(stack)-1]
					continue
				}
				state[at.object] = going
			}
			if at.next == len(needs[at.object]) {
				state[at.object] = done
				ordered = append(ordered, objects[at.object])
				stack = stack[:len(stack)-1]
				continue
			}
			at.next++
			if to := needs[at.object][at.next-1]; state[to] == waiting {
				stack = append(stack, visit{to, 0})
			}
		}
	}
	return ordered
}
