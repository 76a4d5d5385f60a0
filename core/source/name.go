package source

import (
	"errors"
	"fmt"
	"strings"
	"unicode"

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

// SwapCase returns a name with the case of its letters inverted: on file systems that ignore case, another name of the
// same file.
func SwapCase(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsUpper(r) {
			return unicode.ToLower(r)
		}
		return unicode.ToUpper(r)
	}, name)
}

// devices are the names that Windows reserves for devices, with any extension.
var devices = map[string]bool{"con": true, "prn": true, "aux": true, "nul": true, "conin$": true, "conout$": true}

func init() {
	for _, kind := range []string{"com", "lpt"} {
		for _, digit := range []string{"0", "1", "2", "3", "4", "5", "6", "7", "8", "9", "¹", "²", "³"} {
			devices[kind+digit] = true
		}
	}
}

// ErrLeadsOut is the error of a file system for a name that leads out of its directory, by a link.
var ErrLeadsOut = errors.New("it is, or is reached through, a link that leads out of the project")

// UnfitName returns the reason why a file name is invalid on some system, or an empty string. Rendered files have the
// same names everywhere, so a name must be valid on all systems.
func UnfitName(name string) string {
	stem, _, _ := strings.Cut(name, ".")
	switch {
	case devices[strings.ToLower(strings.TrimRight(stem, " "))]:
		return fmt.Sprintf("Windows reserves the name %s for a device, with any extension", strings.TrimRight(stem, " "))
	case name != "." && name != ".." && strings.TrimRight(name, ". ") != name:
		return "on Windows a name cannot end with a point or a space"
	}
	return ""
}
