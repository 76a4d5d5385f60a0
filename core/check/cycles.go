package check

import (
	"fmt"
	"slices"

	"knothole/core/source"
	"knothole/core/types"
)

// propagate finds out which declarations depend on inputs and on the environment. The components come with those
// that are used before those that use them.
func propagate(objects []*Object, components [][]int) {
	for _, component := range components {
		input, environment := false, false
		for _, i := range component {
			o := objects[i]
			input = input || o.NeedsInput || o.Kind == ObjectInput
			environment = environment || o.NeedsEnvironment
			for _, r := range o.Uses {
				input = input || r.Object.NeedsInput && !r.Made
				environment = environment || r.Object.NeedsEnvironment
			}
		}
		for _, i := range component {
			objects[i].NeedsInput, objects[i].NeedsEnvironment = input, environment
		}
	}
}

func (c *checker) withConditions() []*Object {
	objects := slices.Clone(c.module.Order)
	for _, condition := range c.needs {
		objects = append(objects, condition.Object)
	}
	return objects
}

// reportCycles reports every cycle of declarations once, at the first of them in the file.
func (c *checker) reportCycles(objects []*Object, components [][]int) {
	sorted := slices.SortedFunc(slices.Values(components), func(a, b []int) int { return a[0] - b[0] })
	for _, component := range sorted {
		first := objects[component[0]]
		self := slices.ContainsFunc(first.Uses, func(r Reference) bool { return r.Object == first && !r.Guarded })
		if len(component) == 1 && !self {
			continue
		}
		inside := map[*Object]bool{}
		recursion := false
		for _, i := range component {
			inside[objects[i]] = true
			recursion = recursion || objects[i].Kind == ObjectFunction
			objects[i].Invalid = true
		}
		path := circle(first, inside)
		if first.Kind == ObjectInput && len(path) == 2 && path[0].Object.Kind == ObjectCondition {
			c.report(source.Cycle, path[1].Span, "in a condition the value is called it", "the condition of %s uses %s itself",
				first.Name, first.Name)
			continue
		}
		var names []string
		var related []source.Related
		for i, r := range path {
			from := first
			if i > 0 {
				from = path[i-1].Object
			}
			names = append(names, describe(from))
			related = append(related,
				source.Related{Span: r.Span, Text: fmt.Sprintf("%s uses %s here", describe(from), describe(r.Object))})
		}
		names = append(names, describe(first))
		f := Circle(first.Span, describe(first), names)
		f.Related = related
		if first.Kind == ObjectType {
			f.Help = "a type can contain itself only through a list, a map, an optional field or null"
		}
		if recursion {
			f.Code, f.Help = source.Recursion, "functions cannot call themselves; go through a list with for"
		}
		c.findings.Add(f)
	}
}

// reportEmpty reports every type of which there can be no value, since it would hold another of itself without an end.
// Such a cycle goes through tuples, whose elements cannot be left out.
func (c *checker) reportEmpty() {
	empty := map[types.Type]bool{} // the named types, as far as is known
	for _, o := range c.module.Order {
		if o.Kind == ObjectType && !o.Invalid && o.Type != nil {
			empty[o.Type] = true
		}
	}
	for changed := true; changed; {
		changed = false
		for t := range empty {
			if hasValue(t.(*types.Named).Base(), empty) {
				delete(empty, t)
				changed = true
			}
		}
	}
	for _, o := range c.module.Order {
		if empty[o.Type] && o.Kind == ObjectType {
			o.Invalid = true
			c.report(source.Cycle, o.Span, "let it end with null, or with a list instead of a tuple",
				"%s has no values: each would hold one of its own kind, without an end", o.Name)
		}
	}
}

// hasValue reports whether a type has a value that holds none of some named types.
func hasValue(t types.Type, empty map[types.Type]bool) bool {
	switch t := t.(type) {
	case *types.Named:
		return !empty[t]
	case *types.Limited:
		return hasValue(t.Base, empty)
	case *types.Union:
		return slices.ContainsFunc(t.Members, func(m types.Type) bool { return hasValue(m, empty) })
	case *types.Tuple:
		return !slices.ContainsFunc(t.Elements, func(e types.Type) bool { return !hasValue(e, empty) })
	case *types.Record:
		return !slices.ContainsFunc(t.Fields, func(f types.Field) bool {
			return !f.Optional && f.Default == nil && !hasValue(f.Type, empty)
		})
	}
	return true
}

func describe(o *Object) string {
	if o.Name == "" {
		return "the " + o.Kind.String()
	}
	return o.Name
}

// circle returns a shortest way from an object back to itself.
func circle(first *Object, inside map[*Object]bool) []Reference {
	type step struct {
		reference Reference
		before    *step
	}
	queue, seen := []*step{nil}, map[*Object]bool{}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		from := first
		if at != nil {
			from = at.reference.Object
		}
		for _, r := range from.Uses {
			if !inside[r.Object] || seen[r.Object] || r.Guarded {
				continue
			}
			seen[r.Object] = true
			next := &step{r, at}
			if r.Object == first {
				var path []Reference
				for s := next; s != nil; s = s.before {
					path = append(path, s.reference)
				}
				slices.Reverse(path)
				return path
			}
			queue = append(queue, next)
		}
	}
	return nil
}

// components returns the strongly connected components of the objects (Tarjan), each sorted, those that are used
// before those that use them. References that are guarded count only when that is said. It keeps its own stack, since a
// chain of declarations may be as long as a file.
func components(objects []*Object, guarded bool) [][]int {
	index := make(map[*Object]int, len(objects))
	for i, o := range objects {
		index[o] = i
	}
	const unseen = -1
	n := len(objects)
	order, low, onStack := make([]int, n), make([]int, n), make([]bool, n)
	for i := range order {
		order[i] = unseen
	}
	type frame struct{ object, next int }
	var stack []int
	var result [][]int
	count := 0
	for root := range objects {
		if order[root] != unseen {
			continue
		}
		work := []frame{{root, 0}}
		for len(work) > 0 {
			f := &work[len(work)-1]
			v := f.object
			if order[v] == unseen {
				order[v], low[v] = count, count
				count++
				stack = append(stack, v)
				onStack[v] = true
			}
			descended := false
			for f.next < len(objects[v].Uses) {
				r := objects[v].Uses[f.next]
				w, ok := index[r.Object]
				f.next++
				if !ok || r.Guarded && !guarded {
					continue
				}
				if order[w] == unseen {
					work = append(work, frame{w, 0})
					descended = true
					break
				}
				if onStack[w] {
					low[v] = min(low[v], order[w])
				}
			}
			if descended {
				continue
			}
			if low[v] == order[v] {
				var component []int
				for {
					w := stack[len(stack)-1]
					stack = stack[:len(stack)-1]
					onStack[w] = false
					component = append(component, w)
					if w == v {
						break
					}
				}
				slices.Sort(component)
				result = append(result, component)
			}
			work = work[:len(work)-1]
			if len(work) > 0 {
				parent := work[len(work)-1].object
				low[parent] = min(low[parent], low[v])
			}
		}
	}
	return result
}
