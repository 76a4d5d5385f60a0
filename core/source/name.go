package source

import (
	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// FoldName returns what the name of a file is for a file system that looks at neither case nor the form in which
// characters are composed: names of which it is the same may be one file (Unicode 3.13, default caseless matching).
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
