package explain

import (
	"slices"

	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/render"
	"knothole/core/value"
)

// Documents is a set of documents that is looked into: an environment, or data files.
type Documents struct {
	Name      string // of the environment; empty for files
	Documents []render.Document
}

// Place is one place in one document with a value.
type Place struct {
	Environment string
	Document    string
	Title       string // which element of a stream it is in, such as "Deployment bay-map"; empty for other documents
	Path        *place.Path
	Value       value.Value
}

// Inventory is the values at a path in many documents.
type Inventory struct {
	Places    []Place // by environment, then document, as declared
	Documents int     // how many documents were looked at
	Without   int     // how many of them have no such place
	Why       string  // of the last one without, what is there instead
}

// Look gathers the values at a path in all documents: those of streams are looked at one by one.
func Look(sets []Documents, path *eval.Places) *Inventory {
	inventory := &Inventory{}
	for _, set := range sets {
		for i := range set.Documents {
			d := &set.Documents[i]
			objects := []value.Value{d.Value}
			if d.Stream {
				objects = d.Value.Elements()
			}
			for _, v := range objects {
				inventory.Documents++
				found, why := path.Find(v)
				if len(found) == 0 {
					inventory.Without++
					inventory.Why = why
					continue
				}
				title := ""
				if d.Stream {
					title = titleOf(v)
				}
				for _, f := range found {
					inventory.Places = append(inventory.Places,
						Place{set.Name, d.Path, title, known(v, f.Path), f.Value})
				}
			}
		}
	}
	return inventory
}

// known returns a path on which elements of lists that have a name are known by it.
func known(v value.Value, path *place.Path) *place.Path {
	var result *place.Path
	for _, step := range path.Steps() {
		if step.Kind == place.Field {
			result, v = result.Field(step.Name), v.Get(step.Name)
			continue
		}
		v = v.Elements()[step.Index]
		name := value.Value{}
		if v.Kind() == value.Record {
			name = v.Get("name")
		}
		if name.Kind() == value.String && name.Mark() == 0 && name.Text() != "" {
			result = result.Keyed(name.Text(), step.Index)
		} else {
			result = result.Index(step.Index)
		}
	}
	return result
}

// titleOf names an object by its kind and name.
func titleOf(v value.Value) string {
	kind := render.KindOf(v)
	if kind == "" {
		return ""
	}
	if metadata := v.Get("metadata"); metadata.Kind() == value.Record {
		if name := metadata.Get("name"); name.Kind() == value.String && name.Mark() == 0 {
			return kind + " " + name.Text()
		}
	}
	return kind
}

// Row is a value with the environments that have it at a place of a document.
type Row struct {
	Place
	Environments []string
}

// Rows folds places: one row for each document, place and value, with the environments in which it is so.
func (in *Inventory) Rows() []Row {
	type key struct{ document, title, path string }
	var order []key
	rows := map[key][]Row{}
	for _, p := range in.Places {
		k := key{p.Document, p.Title, p.Path.String()}
		if rows[k] == nil {
			order = append(order, k)
		}
		i := slices.IndexFunc(rows[k], func(r Row) bool {
			return value.Identical(r.Value, p.Value) &&
				r.Value.Mark() == p.Value.Mark()
		})
		if i < 0 {
			rows[k] = append(rows[k], Row{Place: p, Environments: []string{p.Environment}})
			continue
		}
		rows[k][i].Environments = append(rows[k][i].Environments, p.Environment)
	}
	slices.SortStableFunc(order, func(a, b key) int {
		if a.document < b.document {
			return -1
		} else if a.document > b.document {
			return 1
		}
		return 0
	})
	var all []Row
	for _, k := range order {
		all = append(all, rows[k]...)
	}
	return all
}
