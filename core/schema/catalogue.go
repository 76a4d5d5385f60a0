package schema

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"knothole/core/source"
	"knothole/core/value"
)

// Kind is a kind of object, in one version of its interface.
type Kind struct {
	APIVersion string // such as apps/v1
	Name       string // such as Deployment
	Schema     *Schema
	// From is the path of the file that defines it; empty for what is built in.
	From string
	// NotServed says that servers do not know the version any more; Deprecated is what they say of one that is to go.
	NotServed  bool
	Deprecated string
	Scope      string // Namespaced or Cluster; empty when it is not said
}

// Key is how a kind is written: its version and name, such as apps/v1/Deployment.
func (k *Kind) Key() string { return k.APIVersion + "/" + k.Name }

// Finding says that servers do not know the kind any more, or not for long; ok is false when they do.
func (k *Kind) Finding(at source.Span) (f source.Finding, ok bool) {
	switch {
	case k.NotServed:
		return source.Finding{Code: source.SchemaViolation, Span: at, Message: k.Key() + " is not served any more",
			Help: "take a version that is"}, true
	case k.Deprecated != "":
		return source.Finding{Code: source.Deprecated, Severity: source.Warning, Span: at, Message: k.Deprecated}, true
	}
	return source.Finding{}, false
}

// KindOf returns the version and the kind of an object; empty for other data.
func KindOf(v value.Value) (apiVersion, kind string) {
	if v.Kind() != value.Record {
		return "", ""
	}
	return textOf(v.Get("apiVersion")), textOf(v.Get("kind"))
}

// group returns the group of the interface that a version belongs to; empty for the first.
func group(apiVersion string) string {
	g, _, ok := strings.Cut(apiVersion, "/")
	if !ok {
		return ""
	}
	return g
}

// Catalogue is the kinds that are known. It may be used from any goroutine once everything was added.
type Catalogue struct {
	Store *Store
	mu    sync.Mutex
	kinds map[string]*Kind // by their keys
	read  map[string]bool  // the versions of which what is built in was read
	helps sync.Map         // for kinds that are not known, by their keys
}

// NewCatalogue returns a catalogue of what is built in.
func NewCatalogue(store *Store) *Catalogue {
	return &Catalogue{Store: store, kinds: map[string]*Kind{}, read: map[string]bool{}}
}

// Add takes the definitions of kinds out of a document of a file: a custom resource definition, an object whose items
// are some, or a JSON Schema that says of which kind it is. It returns how many kinds it found. A kind that is there
// already is replaced: what a project adds wins over what is built in.
func (c *Catalogue) Add(path string, d Document) (added []*Kind, findings source.Findings) {
	root := d.Root
	if root.Kind() != value.Record {
		return nil, nil
	}
	switch {
	case root.Get("items").Kind() == value.List && strings.HasSuffix(textOf(root.Get("kind")), "List"):
		for _, item := range root.Get("items").Elements() {
			more, found := c.Add(path, Document{Root: item, Numbers: d.Numbers})
			added, findings = append(added, more...), append(findings, found...)
		}
	case isDefinition(root):
		added, findings = c.definition(path, d)
	default:
		added = c.ofSchema(path, d)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, k := range added {
		c.kinds[k.Key()] = k
	}
	return added, findings
}

// DefinitionKind is the kind of custom resource definitions.
const DefinitionKind = "CustomResourceDefinition"

// isDefinition reports whether an object is a custom resource definition.
func isDefinition(v value.Value) bool {
	return v.Kind() == value.Record && textOf(v.Get("kind")) == DefinitionKind &&
		group(textOf(v.Get("apiVersion"))) == "apiextensions.k8s.io"
}

// textOf returns the text that a value is; empty for another.
func textOf(v value.Value) string {
	if v.Kind() == value.String && !v.Secret() {
		return v.Text()
	}
	return ""
}

// lookUp goes down the fields of a record; Absent where there is none.
func lookUp(v value.Value, fields ...string) value.Value {
	for _, name := range fields {
		if v.Kind() != value.Record {
			return value.Value{}
		}
		v = v.Get(name)
	}
	return v
}

// definition takes the versions out of a custom resource definition.
func (c *Catalogue) definition(path string, d Document) (kinds []*Kind, findings source.Findings) {
	spec := d.Root.Get("spec")
	group, name := textOf(lookUp(spec, "group")), textOf(lookUp(spec, "names", "kind"))
	versions := lookUp(spec, "versions")
	if group == "" || name == "" {
		findings.Add(source.Finding{Code: source.BadSchema, Span: source.At(d.Root.Origin().Pos()),
			Message: "this definition does not say what it defines",
			Help:    "it needs spec.group, spec.names.kind and spec.versions"})
		return nil, findings
	}
	// Servers of the first version keep what a definition does not name, unless it says otherwise.
	keeps := strings.HasSuffix(textOf(d.Root.Get("apiVersion")), "/v1beta1")
	if says := lookUp(spec, "preserveUnknownFields"); says.Kind() == value.Bool {
		keeps = says.Bool()
	}
	shared := lookUp(spec, "validation", "openAPIV3Schema") // of the first version of definitions
	one := func(version, of value.Value) {
		label := textOf(version)
		if label == "" {
			return
		}
		k := &Kind{APIVersion: group + "/" + label, Name: name, From: path, Scope: textOf(lookUp(spec, "scope"))}
		if served := lookUp(of, "served"); served.Kind() == value.Bool {
			k.NotServed = !served.Bool()
		}
		if old := lookUp(of, "deprecated"); old.Kind() == value.Bool && old.Bool() {
			if k.Deprecated = textOf(lookUp(of, "deprecationWarning")); k.Deprecated == "" {
				k.Deprecated = k.Key() + " is deprecated"
			}
		}
		root := lookUp(of, "schema", "openAPIV3Schema")
		if root.IsAbsent() {
			root = shared
		}
		if root.Kind() != value.Record {
			findings.Add(source.Finding{Code: source.BadSchema, Severity: source.Warning,
				Span:    source.At(version.Origin().Pos()),
				Message: fmt.Sprintf("%s has no schema, so that anything is allowed", k.Key()),
				Help:    "add schema.openAPIV3Schema"})
			root = value.BoolOf(true, version.Origin())
		}
		k.Schema = c.Store.AddOpenAPI(path+"/"+k.Key(), Document{Root: root, Numbers: d.Numbers})
		if keeps {
			k.Schema.loose.Store(true)
		}
		kinds = append(kinds, k)
	}
	if versions.Kind() == value.List {
		for _, v := range versions.Elements() {
			one(lookUp(v, "name"), v)
		}
	} else if label := lookUp(spec, "version"); !label.IsAbsent() {
		one(label, value.Value{})
	}
	return kinds, findings
}

// kindKeyword is the extension by which a schema says of which kinds it is.
const kindKeyword = "x-kubernetes-group-version-kind"

// ofSchema takes the kinds out of a JSON Schema: it says itself of which it is, or its definitions do.
func (c *Catalogue) ofSchema(path string, d Document) []*Kind {
	var kinds []*Kind
	root := c.Store.Add(FileURI(path), d)
	one := func(v value.Value) {
		if v.Kind() != value.Record {
			return
		}
		for _, key := range kindsOf(v) {
			k := &Kind{APIVersion: key[0], Name: key[1], From: path, Schema: c.Store.part(v, root.resource)}
			kinds = append(kinds, k)
		}
	}
	one(d.Root)
	for _, holder := range []value.Value{d.Root.Get("definitions"), d.Root.Get("$defs"),
		lookUp(d.Root, "components", "schemas")} {
		if holder.Kind() == value.Record {
			for _, v := range holder.Values() {
				one(v)
			}
		}
	}
	return kinds
}

// kindsOf returns the versions and names of the kinds that a schema is of.
func kindsOf(v value.Value) [][2]string {
	var all [][2]string
	if list := v.Get(kindKeyword); list.Kind() == value.List {
		for _, x := range list.Elements() {
			version := textOf(lookUp(x, "version"))
			if g := textOf(lookUp(x, "group")); g != "" {
				version = g + "/" + version
			}
			if name := textOf(lookUp(x, "kind")); name != "" && version != "" {
				all = append(all, [2]string{version, name})
			}
		}
		return all
	}
	only := func(field string) []string {
		p := lookUp(v, "properties", field)
		if p.Kind() != value.Record {
			return nil
		}
		if text := textOf(p.Get("const")); text != "" {
			return []string{text}
		}
		return texts(p.Get("enum"))
	}
	for _, version := range only("apiVersion") {
		for _, name := range only("kind") {
			all = append(all, [2]string{version, name})
		}
	}
	return all
}

// Find returns a kind; nil when it is not known.
func (c *Catalogue) Find(apiVersion, name string) *Kind {
	c.mu.Lock()
	defer c.mu.Unlock()
	if k, ok := c.kinds[apiVersion+"/"+name]; ok {
		return k
	}
	return c.builtIn(apiVersion, name)
}

// Kinds returns all kinds, built in ones too, by group, name and version.
func (c *Catalogue) Kinds() []*Kind {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.allBuiltIn()
	var all []*Kind
	for _, k := range c.kinds {
		all = append(all, k)
	}
	slices.SortFunc(all, func(a, b *Kind) int {
		return strings.Compare(group(a.APIVersion)+"\x00"+a.Name+"\x00"+a.APIVersion,
			group(b.APIVersion)+"\x00"+b.Name+"\x00"+b.APIVersion)
	})
	return all
}

// Unknown is the finding for a kind that is not known. Add is the command that would add it.
func (c *Catalogue) Unknown(apiVersion, name string, at source.Pos, add string) source.Finding {
	return source.Finding{Code: source.NoSchema, Span: source.At(at),
		Message: fmt.Sprintf("the catalogue has no %s %s", apiVersion, name), Help: c.helpFor(apiVersion, name, add)}
}

// helpFor is the help for a kind that is not known, which many objects may be of.
func (c *Catalogue) helpFor(apiVersion, name, add string) string {
	key := apiVersion + "/" + name
	if known, ok := c.helps.Load(key); ok {
		return known.(string)
	}
	help := add
	var versions, names []string
	for _, k := range c.Kinds() {
		if k.Name == name {
			versions = append(versions, k.APIVersion)
		}
		if k.APIVersion == apiVersion {
			names = append(names, k.Name)
		}
	}
	if near, ok := source.Nearest(name, names); ok {
		help = source.DidYouMean(near)
	}
	if len(versions) > 0 {
		help = fmt.Sprintf("it has %s as %s; to add this one: %s", name, source.Quoted(versions), add)
		if near, ok := source.Nearest(apiVersion, versions); ok {
			help = source.DidYouMean(near)
		}
	}
	c.helps.Store(key, help)
	return help
}

// Definition is a custom resource definition that was found in data, as it is kept in a catalogue.
type Definition struct {
	FileName string      // that it gets in a directory
	Plain    value.Value // without what a server says of it
	Versions int
}

// inFileName keeps what the names of kinds and groups consist of, and may be in the name of any file (RFC 1123).
func inFileName(r rune) rune {
	if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '.' || r == '-' {
		return r
	}
	return '-'
}

// Definitions returns the custom resource definitions among documents, also in lists.
func Definitions(documents []value.Value) []Definition {
	var all []Definition
	for _, d := range documents {
		for _, v := range Objects(d) {
			if !isDefinition(v) {
				continue
			}
			spec := v.Get("spec")
			name := strings.ToLower(textOf(lookUp(spec, "names", "kind")))
			if group := textOf(lookUp(spec, "group")); group != "" {
				name += "." + group
			}
			versions := 1
			if list := lookUp(spec, "versions"); list.Kind() == value.List {
				versions = list.Len()
			}
			if safe := strings.TrimLeft(strings.Map(inFileName, name), ".-"); safe != "" {
				if source.UnfitName(safe) != "" {
					safe = "kind-" + safe
				}
				all = append(all, Definition{safe + ".yaml", plainDefinition(v), versions})
			}
		}
	}
	return all
}

// without leaves fields of a record out.
func without(v value.Value, names ...string) value.Value {
	if v.Kind() != value.Record {
		return v
	}
	var b value.Builder
	for i, key := range v.Shape().Keys() {
		if !slices.Contains(names, key) {
			b.Set(key, v.Values()[i])
		}
	}
	return b.Record(v.Origin())
}

// plainDefinition leaves out what a server says of a definition.
func plainDefinition(v value.Value) value.Value {
	v = without(v, "status")
	var b value.Builder
	for i, key := range v.Shape().Keys() {
		x := v.Values()[i]
		if key == "metadata" {
			x = without(x, "managedFields", "resourceVersion", "uid", "generation", "creationTimestamp", "selfLink")
		}
		b.Set(key, x)
	}
	return b.Record(v.Origin())
}

// CompareVersions orders the versions of interfaces: v2 is after v1, v1 after v1beta2, that after v1beta1 and v1alpha1.
func CompareVersions(a, b string) int {
	rank := func(version string) [3]int {
		version = version[strings.LastIndexByte(version, '/')+1:]
		var major, minor int
		stage := "z" // neither alpha nor beta
		if n, _ := fmt.Sscanf(version, "v%d", &major); n == 0 {
			return [3]int{}
		}
		rest := strings.TrimLeft(strings.TrimPrefix(version, "v"), "0123456789")
		for _, word := range []string{"alpha", "beta"} {
			if after, ok := strings.CutPrefix(rest, word); ok {
				stage = word
				_, _ = fmt.Sscanf(after, "%d", &minor)
			}
		}
		return [3]int{int(stage[0]), major, minor}
	}
	x, y := rank(a), rank(b)
	return slices.Compare(x[:], y[:])
}
