package compare

import "knothole/core/value"

// CompareAs compares as CompareBy does, with a schema that says by which fields the elements of a list at a path of
// fields are known; of a stream each element is an object of its own.
func CompareAs(fields []string, at func(path []string) []string, stream bool, cells ...value.Value) *Node {
	k := matchKey{fields: fields, stream: stream, object: cells[0]}
	k.at = func(_ value.Value, path []string) []string { return at(path) }
	return compareKnown(k, cells...)
}
