package schema

import (
	"embed"
	"maps"
	"path"
	"slices"
	"strings"
)

// The versions of JSON Schema, in their order.
const (
	draft4 = iota
	draft6
	draft7
	draft2019
	draft2020
)

// vocabulary is a set of keywords (JSON Schema 2020-12, section 4.3.3). In the older dialects all are in force.
type vocabulary uint8

const (
	applicator vocabulary = 1 << iota
	unevaluated
	validation
	assertedFormats
	everything = applicator | unevaluated | validation
)

// dialect is what the keywords of a schema mean.
type dialect struct {
	version      int
	vocabularies vocabulary
	// openAPI says that the schema objects are those of OpenAPI 3.0, as definitions of custom resources carry them.
	openAPI bool
}

// openAPI is the dialect of OpenAPI 3.0.3, section 4.7.24, with the extensions of custom resource definitions. It is
// draft 4 with other words.
var openAPI = &dialect{version: draft4, vocabularies: everything, openAPI: true}

// openAPIMetaschema is the address of the schema of such schema objects, which is ours.
const openAPIMetaschema = builtInScheme + ":openapi"

// idKeyword is the keyword that names a schema.
func (d *dialect) idKeyword() string {
	switch {
	case d.openAPI:
		return "" // nothing has an address
	case d.version == draft4:
		return "id"
	}
	return "$id"
}

// has reports whether a vocabulary is in force.
func (d *dialect) has(v vocabulary) bool { return d.vocabularies&v == v }

// refAlone reports whether a reference makes all that is beside it meaningless.
func (d *dialect) refAlone() bool { return d.version <= draft7 }

// DefaultDialect is that of a schema that does not say which it is of.
const DefaultDialect = "https://json-schema.org/draft/2020-12/schema"

// dialects are the known ones, by the address of their metaschema without an empty fragment.
var dialects = map[string]*dialect{
	"http://json-schema.org/draft-04/schema":       {version: draft4, vocabularies: everything},
	"http://json-schema.org/draft-06/schema":       {version: draft6, vocabularies: everything},
	"http://json-schema.org/draft-07/schema":       {version: draft7, vocabularies: everything},
	"https://json-schema.org/draft/2019-09/schema": {version: draft2019, vocabularies: everything},
	DefaultDialect: {version: draft2020, vocabularies: everything},
}

// vocabularies are those of the newer dialects, by their addresses.
var vocabularies = map[string]vocabulary{
	"https://json-schema.org/draft/2019-09/vocab/applicator":       applicator | unevaluated,
	"https://json-schema.org/draft/2019-09/vocab/validation":       validation,
	"https://json-schema.org/draft/2019-09/vocab/format":           0,
	"https://json-schema.org/draft/2020-12/vocab/applicator":       applicator,
	"https://json-schema.org/draft/2020-12/vocab/unevaluated":      unevaluated,
	"https://json-schema.org/draft/2020-12/vocab/validation":       validation,
	"https://json-schema.org/draft/2020-12/vocab/format-assertion": assertedFormats,
}

// Dialects returns the addresses of the dialects, sorted.
func Dialects() []string { return slices.Sorted(maps.Keys(dialects)) }

//go:embed metaschemas
var embedded embed.FS

// metaschema returns the text of an embedded metaschema by its address.
func metaschema(uri string) (name string, text []byte, ok bool) {
	_, rest, found := strings.Cut(uri, "://json-schema.org/")
	if uri == openAPIMetaschema {
		rest, found = "openapi", true
	}
	if !found {
		return "", nil, false
	}
	name = path.Join("metaschemas", rest+".json")
	text, err := embedded.ReadFile(name)
	return name, text, err == nil
}
