package render

import (
	"fmt"
	"slices"

	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/value"
)

// ranks are the kinds of objects that others need, in the order in which they are needed; those that are not named
// stand between settings and routes. They are kinds of the open object format that most of what is rendered has.
var ranks = map[string]int{
	"Namespace":                0,
	"CustomResourceDefinition": 1,
	"PriorityClass":            1, "StorageClass": 1, "IngressClass": 1,
	"ServiceAccount": 2, "ClusterRole": 2, "Role": 2, "ClusterRoleBinding": 2, "RoleBinding": 2,
	"ConfigMap": 3, "Secret": 3, "PersistentVolume": 3, "PersistentVolumeClaim": 3, "LimitRange": 3,
	"ResourceQuota": 3, "NetworkPolicy": 3,
	"Service": 5, "Ingress": 5, "HorizontalPodAutoscaler": 5, "PodDisruptionBudget": 5,
}

// otherRank is that of workloads, and of all other kinds.
const otherRank = 4

// Object is one document of a stream.
type Object struct {
	Path  string // of the document that it is in
	Value value.Value
}

// Stream returns the YAML documents of an environment, those of streams one by one, those that others need first:
// name spaces, definitions, accounts, settings, workloads, routes; otherwise as declared. Others counts the documents
// of other formats, which are not among them.
func Stream(documents []Document) (objects []Object, others int) {
	for _, d := range documents {
		switch {
		case !d.Format.Streams():
			others++
		case d.Stream:
			for _, v := range d.Value.Elements() {
				objects = append(objects, Object{d.Path, v})
			}
		default:
			objects = append(objects, Object{d.Path, d.Value})
		}
	}
	slices.SortStableFunc(objects, func(a, b Object) int { return rank(a.Value) - rank(b.Value) })
	return objects, others
}

func rank(v value.Value) int {
	if r, ok := ranks[place.Kind(v)]; ok {
		return r
	}
	return otherRank
}

// Kinds returns what a document holds, in words for a summary: the kinds of its objects, or its format.
func (d *Document) Kinds() []string {
	objects := []value.Value{d.Value}
	if d.Stream {
		objects = d.Value.Elements()
	}
	var kinds []string
	for _, v := range objects {
		kind := place.Kind(v)
		if kind == "" {
			kind = string(d.Format)
		}
		kinds = append(kinds, kind)
	}
	return kinds
}

// Header returns the comment with which a rendered file begins when the project wants it: what made the file. Formats
// without comments have none.
func Header(e *project.Environment, f data.Format) string {
	if !e.Unit.Project.Header || f.Comment() == "" {
		return ""
	}
	return fmt.Sprintf(
		"%s Rendered by knothole from %s for %s. Do not edit: change the sources instead.\n",
		f.Comment(), e.Unit.Main, e.Name)
}
