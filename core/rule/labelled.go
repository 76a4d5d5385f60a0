package rule

import (
	"iter"

	"knothole/core/value"
)

// labelled are things that have labels, found by them. The zero value is ready for use.
type labelled[T any] struct {
	all     []withLabels[T]
	byLabel map[label][]int     // positions in all
	byKey   map[string][]string // the texts of labels, each once
}

type withLabels[T any] struct {
	of     T
	labels value.Value
}

type label struct{ key, text string }

// add adds a thing; labels that are no record of strings are none.
func (l *labelled[T]) add(of T, labels value.Value) {
	if l.byLabel == nil {
		l.byLabel, l.byKey = map[label][]int{}, map[string][]string{}
	}
	if labels.Kind() == value.Record {
		for i, key := range labels.Shape().Keys() {
			if x := labels.Values()[i]; x.Kind() == value.String && !x.Unknown() {
				one := label{key, x.Text()}
				if l.byLabel[one] == nil {
					l.byKey[key] = append(l.byKey[key], x.Text())
				}
				l.byLabel[one] = append(l.byLabel[one], len(l.all))
			}
		}
	}
	l.all = append(l.all, withLabels[T]{of, labels})
}

// having returns the things that have all labels, in their order. It looks only at those that have the rarest.
func (l *labelled[T]) having(wanted map[string]string) iter.Seq[T] {
	return func(yield func(T) bool) {
		var rarest []int
		first := true
		for key, text := range wanted {
			if some := l.byLabel[label{key, text}]; first || len(some) < len(rarest) {
				rarest, first = some, false
			}
		}
		if len(wanted) == 0 { // all records have them
			for _, one := range l.all {
				if one.labels.Kind() == value.Record && !yield(one.of) {
					return
				}
			}
			return
		}
		for _, i := range rarest {
			if hasLabels(l.all[i].labels, wanted) && !yield(l.all[i].of) {
				return
			}
		}
	}
}

// texts returns what there is as a label of a key, each once.
func (l *labelled[T]) texts(key string) []string { return l.byKey[key] }

// labels returns the labels of all things.
func (l *labelled[T]) labels() []value.Value {
	all := make([]value.Value, len(l.all))
	for i, one := range l.all {
		all[i] = one.labels
	}
	return all
}
