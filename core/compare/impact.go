package compare

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Impact is what a change of a project does to all of its environments.
type Impact struct {
	// Blocks are the changes, each for the environments in which it is the same: those of the most first.
	Blocks []Block
	// Unchanged are the environments in which nothing changes.
	Unchanged []string
	// Secrets are the places at which a secret comes from another source: it is not read, and may be another.
	Secrets []ImpactOnSecret
}

// ImpactOnSecret is a place in a document of an environment at which a secret comes from another source.
type ImpactOnSecret struct {
	Environment, Document string
	Unread
}

// Block is what changes in the same way in some environments.
type Block struct {
	Environments []string
	*Comparison
}

// Together folds comparisons of environments, by their names, each before and after one change.
func Together(names []string, comparisons []*Comparison) *Impact {
	impact := &Impact{}
	sets := map[string][]string{} // the environments in which something changes in one way
	said := func(d *Document, r *Row) string {
		if r == nil {
			return fmt.Sprintf("%s\n%v %v", d.Path, d.On, d.Cause.Because)
		}
		return fmt.Sprintf("%s\n%s\n%s\n%s", d.Path, r.Path, r.Kind, r.said())
	}
	for i, c := range comparisons {
		elsewhere := len(impact.Secrets)
		for _, d := range c.Documents {
			for _, u := range d.Unread {
				if u.Differs() {
					impact.Secrets = append(impact.Secrets, ImpactOnSecret{names[i], d.Path, u})
				}
			}
		}
		if c.Equal() && len(impact.Secrets) == elsewhere {
			impact.Unchanged = append(impact.Unchanged, names[i])
		}
		for j := range c.Documents {
			d := &c.Documents[j]
			if d.Against > 0 {
				sets[said(d, nil)] = append(sets[said(d, nil)], names[i])
			}
			for k := range d.Rows {
				sets[said(d, &d.Rows[k])] = append(sets[said(d, &d.Rows[k])], names[i])
			}
		}
	}
	blocks := map[string]*Block{}
	for i, c := range comparisons {
		for _, d := range c.Documents {
			parts := map[string]*Document{} // by the block
			part := func(key string) *Document {
				if names[i] != sets[key][0] {
					return nil // it is told with the first that has it
				}
				block := strings.Join(sets[key], "\n")
				if parts[block] == nil {
					only := d
					only.Rows, only.Status, only.Against = nil, Differs, 0
					parts[block] = &only
					if blocks[block] == nil {
						blocks[block] = &Block{sets[key], &Comparison{Sides: c.Sides, Sources: c.Sources}}
					}
				}
				return parts[block]
			}
			if d.Against > 0 {
				if own := part(said(&d, nil)); own != nil {
					own.Status, own.Against = d.Status, d.Against
				}
			}
			for k := range d.Rows {
				if own := part(said(&d, &d.Rows[k])); own != nil {
					own.Rows = append(own.Rows, d.Rows[k])
				}
			}
			for block, own := range parts {
				blocks[block].Documents = append(blocks[block].Documents, *own)
			}
		}
	}
	keys := slices.SortedFunc(maps.Keys(blocks), func(a, b string) int {
		if n := len(blocks[b].Environments) - len(blocks[a].Environments); n != 0 {
			return n
		}
		return strings.Compare(a, b)
	})
	for _, key := range keys {
		impact.Blocks = append(impact.Blocks, *blocks[key])
	}
	return impact
}
