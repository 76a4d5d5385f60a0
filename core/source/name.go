package source

import (
	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// FoldName returns a file name without case and normalized (Unicode 3.13, default caseless matching). Names with the
// same result may be the same file.
func FoldName(name string) string {
	plain := true
	for i := 0; i < len(name) && plain; i++ {
		plain = name[i] < 0x80 && (name[i] < 'A' || name[i] > 'Z')
	}
	if plain {
		return name
	}
	return norm.NFC.String(cases.Fold().String(norm.NFD.String(name)))
}
