package present

import (
	"encoding/json"
	"slices"
	"strings"

	"knothole/core/explain"
	"knothole/core/place"
)

// Inventory shows the values at a path: a row for each document, place and value, with the environments that have it.
// The place is shown only where the path leads to several.
func (p *Presenter) Inventory(in *explain.Inventory, environments []string) {
	rows := in.Rows()
	if len(rows) == 0 {
		return
	}
	places := varying(rows)
	several := slices.ContainsFunc(places, func(text string) bool { return text != "" })
	head := []cell{{text: "document", paint: p.bold}}
	if several {
		head = append(head, cell{text: "path", paint: p.bold})
	}
	head = append(head, cell{text: "value", paint: p.bold})
	if len(environments) > 1 {
		head = append(head, cell{text: "in", paint: p.bold})
	}
	table := [][]cell{head}
	last := ""
	for i, r := range rows {
		name := r.Document
		if r.Title != "" {
			name += " · " + r.Title
		}
		shown := name
		if name == last {
			shown = ""
		}
		last = name
		row := []cell{plainCell(shown)}
		if several {
			where := places[i]
			if i > 0 && shown == "" && places[i-1] == where {
				where = ""
			}
			row = append(row, plainCell(where))
		}
		paint := p.green
		if r.Value.Mark() != 0 {
			paint = p.yellow
		}
		row = append(row, cell{text: shortValue(r.Value), paint: paint})
		if len(environments) > 1 {
			text := strings.Join(r.Environments, ", ")
			if len(r.Environments) == len(environments) {
				text = "all"
			}
			row = append(row, cell{text: text, paint: p.faint})
		}
		table = append(table, row)
	}
	value := 1
	if several {
		value = 2
	}
	p.table(table, value, 55)
}

// varying returns the paths of rows without the steps that all of them begin and end with.
func varying(rows []explain.Row) []string {
	all := make([][]place.Step, len(rows))
	for i, r := range rows {
		all[i] = r.Path.Steps()
	}
	same := func(i int, from func(steps []place.Step) int) bool {
		at := from(all[i])
		first := from(all[0])
		return at >= 0 && first >= 0 && at < len(all[i]) && first < len(all[0]) &&
			place.Text(all[i][at:at+1]) == place.Text(all[0][first:first+1])
	}
	head, tail := 0, 0
	for ok := true; ok; {
		for i := range all {
			ok = ok && same(i, func([]place.Step) int { return head })
		}
		if ok {
			head++
		}
	}
	for ok := true; ok; {
		for i := range all {
			ok = ok && same(i, func(steps []place.Step) int { return len(steps) - 1 - tail }) && len(all[i])-tail > head
		}
		if ok {
			tail++
		}
	}
	texts := make([]string, len(all))
	for i, steps := range all {
		texts[i] = place.Text(steps[head:max(head, len(steps)-tail)])
	}
	return texts
}

// The form of an inventory as JSON.
type (
	inventoryJSON struct {
		Version   int                  `json:"version"`
		Documents int                  `json:"documents"`
		Without   int                  `json:"without"`
		Places    []inventoryPlaceJSON `json:"paths"`
	}
	inventoryPlaceJSON struct {
		Environment string          `json:"environment,omitempty"`
		Document    string          `json:"document"`
		Object      string          `json:"object,omitempty"`
		Path        string          `json:"path"`
		Pointer     string          `json:"pointer"`
		Value       json.RawMessage `json:"value"`
	}
)

// InventoryJSON shows the same for programs; nothing is folded.
func (p *Presenter) InventoryJSON(in *explain.Inventory) error {
	out := inventoryJSON{Version: 2, Documents: in.Documents, Without: in.Without, Places: []inventoryPlaceJSON{}}
	for _, one := range in.Places {
		out.Places = append(out.Places, inventoryPlaceJSON{one.Environment, one.Document, one.Title,
			one.Path.String(), one.Path.Pointer(), raw(one.Value)})
	}
	return writeJSON(p.Out, out)
}
