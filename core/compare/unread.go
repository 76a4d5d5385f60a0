package compare

import (
	"slices"
	"strings"

	"knothole/core/explain"
	"knothole/core/place"
	"knothole/core/value"
)

// Unread is a place at which all sides have a secret that is not read, and so not compared.
type Unread struct {
	Path *place.Path
	// From says for each side where the secret comes from, such as `{ age = "secrets/north.age" }`; empty when that is
	// not known.
	From []string
}

// Differs reports whether the secret is known to come from elsewhere on some side.
func (u Unread) Differs() bool {
	first := u.From[0]
	return slices.ContainsFunc(u.From, func(from string) bool { return from != first && from != "" && first != "" })
}

// addUnread adds the places of a document that hold a secret on all sides which none reads.
func (d *Document) addUnread(sides []Side) {
	several := slices.ContainsFunc(sides, func(s Side) bool { return s.result == nil || s.result != sides[0].result })
	if !several || slices.Contains(d.On, false) {
		return
	}
	on := map[string][]string{} // by places, of each side so far
	for i, s := range sides {
		unit := s.Contents[d.Path]
		namer := new(place.Namer)
		unreadIn(unit.Value, nil, func(steps []place.Step, v value.Value) {
			var at *place.Path
			for _, step := range steps {
				at = at.Step(step)
			}
			at = namer.Path(unit.Value, at)
			text := at.String()
			if i == 0 {
				d.Unread = append(d.Unread, Unread{Path: at})
			}
			if len(on[text]) == i {
				on[text] = append(on[text], s.sourceOf(v))
			}
		})
	}
	for i := range d.Unread {
		d.Unread[i].From = on[d.Unread[i].Path.String()]
	}
	d.Unread = slices.DeleteFunc(d.Unread, func(u Unread) bool { return len(u.From) < len(sides) })
	if d.Status == Same && len(d.Unread) > 0 {
		d.Status = SameUnread
	}
}

// unreadIn finds the secrets in a value that are not read. All of what is compared is gone through, so that paths are
// made of the steps only where there is one; the steps hold until found returns.
func unreadIn(v value.Value, steps []place.Step, found func(steps []place.Step, v value.Value)) {
	switch {
	case v.Secret() && v.Unknown():
		found(steps, v)
	case v.Kind() == value.List:
		for i, x := range v.Elements() {
			unreadIn(x, append(steps, place.Step{Kind: place.Index, Index: i}), found)
		}
	case v.Kind() == value.Record:
		for i, key := range v.Shape().Keys() {
			unreadIn(v.Values()[i], append(steps, place.Step{Kind: place.Field, Name: key}), found)
		}
	}
}

// sourceOf says where a secret comes from; it is empty when that was not recorded.
func (s Side) sourceOf(v value.Value) string {
	if s.unit == nil || s.recorder() == nil {
		return ""
	}
	var from []string
	for _, e := range explain.Story(s.recorder(), v.Origin(), s.unit.Project.InSource) {
		if e.Input == nil {
			continue
		}
		in, err := s.unit.InputAt(e.Input.Path.Fields())
		if err != nil {
			continue
		}
		all := s.result.Run.Settings(s.result.World, in).All
		if len(all) == 0 || all[len(all)-1].Reference == nil {
			continue
		}
		if text := all[len(all)-1].Reference.String(); !slices.Contains(from, text) {
			from = append(from, text)
		}
	}
	return strings.Join(from, ", ")
}
