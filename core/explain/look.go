package explain

import (
	"cmp"
	"slices"
	"strings"

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
	Why       string  // of one without to which the path leads furthest, what is there instead
}

// Look gathers the values at a path in all documents: those of streams are looked at one by one.
func Look(sets []Documents, path *eval.Places) *Inventory {
	inventory, namer, furthest := &Inventory{}, &place.Namer{}, -1
	for _, set := range sets {
		for i := range set.Documents {
			d := &set.Documents[i]
			objects := []value.Value{d.Value}
			if d.Stream {
				objects = d.Value.Elements()
			}
			for _, v := range objects {
				inventory.Documents++
				found, why, steps := path.Look(v)
				if len(found) == 0 {
					inventory.Without++
					if steps > furthest {
						furthest, inventory.Why = steps, d.Path+": "+why
					}
					continue
				}
				title := ""
				if d.Stream {
					title = cmp.Or(place.Title(v), place.Kind(v))
				}
				for _, f := range found {
					inventory.Places = append(inventory.Places,
						Place{set.Name, d.Path, title, namer.Path(v, f.Path), f.Value})
				}
			}
		}
	}
	return inventory
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
		return strings.Compare(a.document, b.document)
	})
	var all []Row
	for _, k := range order {
		all = append(all, rows[k]...)
	}
	return all
}
