package source

import (
	"embed"
	"io/fs"
	"strings"

	"github.com/rogpeppe/go-internal/txtar"
)

//go:embed pages/*.txtar
var pages embed.FS

// Page explains a code: what it means, and files that give it and that mend it.
type Page struct {
	Code Code
	Text string
	// Wrong and Right are small projects; they are empty where no text can show the error. Without a project file,
	// they stand for one with a single environment.
	Wrong, Right []PageFile
}

// PageFile is one file of an example.
type PageFile struct{ Name, Text string }

// Codes returns all codes, in alphabetical order.
func Codes() []Code {
	names, _ := fs.Glob(pages, "pages/*.txtar") // the pattern is right
	codes := make([]Code, len(names))
	for i, name := range names {
		codes[i] = Code(strings.TrimSuffix(strings.TrimPrefix(name, "pages/"), ".txtar"))
	}
	return codes
}

// PageOf returns the page of a code, and whether there is such a code.
func PageOf(code Code) (*Page, bool) {
	text, err := pages.ReadFile("pages/" + string(code) + ".txtar")
	if err != nil {
		return nil, false
	}
	archive := txtar.Parse(text)
	page := &Page{Code: code, Text: strings.TrimSpace(string(archive.Comment))}
	for _, f := range archive.Files {
		kind, name, _ := strings.Cut(f.Name, "/")
		file := PageFile{name, string(f.Data)}
		if kind == "wrong" {
			page.Wrong = append(page.Wrong, file)
		} else {
			page.Right = append(page.Right, file)
		}
	}
	return page, true
}
