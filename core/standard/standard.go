// Package standard holds the rules that come with the program: modules in the language itself, which a project puts in
// force by their names, such as standard/images. It exists so that a team begins with rules that say why, which it can
// read and test its own documents with.
package standard

import (
	"embed"
	"io/fs"
	"path"
	"strings"
)

//go:embed *.knot
var modules embed.FS

// folder is what the paths of the modules begin with.
const folder, ending = "standard/", ".knot"

// Names returns the paths of all modules, in alphabetical order.
func Names() []string {
	names, _ := fs.Glob(modules, "*"+ending) // the pattern is right
	for i, name := range names {
		names[i] = folder + strings.TrimSuffix(name, ending)
	}
	return names
}

// Is reports whether a path is that of a module of this package, whether there is one or not: files of a project have
// an extension.
func Is(name string) bool { return strings.HasPrefix(name, folder) && path.Ext(name) == "" }

// Read returns the text of a module; ok is false when there is none of that path.
func Read(name string) (text []byte, ok bool) {
	inside, is := strings.CutPrefix(name, folder)
	if !is {
		return nil, false
	}
	text, err := modules.ReadFile(inside + ending)
	return text, err == nil
}
