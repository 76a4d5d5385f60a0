package schema

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"net/url"
	"strings"
	"sync"

	"knothole/core/data"
)

// The kinds that are built in are in the directory kinds: for each version of an interface, its kinds; beside them
// what they have in common. They are read when one of them is asked for.

//go:embed kinds
var kindFiles embed.FS

// builtInFiles are the files by the versions of interfaces that they have, each of which begins a line.
var builtInFiles = sync.OnceValue(func() map[string]string {
	files := map[string]string{}
	names, err := fs.Glob(kindFiles, "kinds/*.yaml")
	if err != nil {
		panic(err)
	}
	for _, name := range names {
		text, err := kindFiles.ReadFile(name)
		if err != nil {
			panic(err)
		}
		for line := range bytes.Lines(text) {
			// What versions share is by names with capitals.
			if version, is := bytes.CutSuffix(line, []byte(":\n")); is && 'a' <= line[0] && line[0] <= 'z' {
				files[string(version)] = name
			}
		}
	}
	return files
})

// builtInScheme is that of the addresses of what is built in.
const builtInScheme = "knothole"

// builtInDocument reads an embedded document; ok is false when there is none.
func (s *Store) builtInDocument(uri *url.URL) (d Document, ok bool) {
	name := strings.TrimPrefix(uri.Path, "/")
	text, err := kindFiles.ReadFile(name)
	if err != nil || uri.Scheme != builtInScheme {
		return Document{}, false
	}
	file, err := s.Sources.Add("knothole:"+name, text)
	if err != nil {
		return Document{}, false
	}
	root, findings := data.Read(file, data.YAML, nil)
	if findings.HasErrors() {
		panic(fmt.Sprintf("the embedded %s cannot be read: %s", name, findings[0].Message))
	}
	return Document{Root: root}, true
}

// builtIn returns a kind that is built in; nil when there is none. The catalogue is locked.
func (c *Catalogue) builtIn(apiVersion, name string) *Kind {
	c.readBuiltIn(apiVersion)
	return c.kinds[apiVersion+"/"+name]
}

// readBuiltIn adds the kinds of a version that are built in, unless the project has its own.
func (c *Catalogue) readBuiltIn(apiVersion string) {
	file, ok := builtInFiles()[apiVersion]
	if !ok || c.read[apiVersion] {
		return
	}
	c.read[apiVersion] = true
	c.Store.mu.Lock()
	r := c.Store.load(&url.URL{Scheme: builtInScheme, Path: "/" + file}, openAPI)
	c.Store.mu.Unlock()
	kinds := r.root.Get(apiVersion)
	for i, name := range kinds.Shape().Keys() {
		of := kinds.Values()[i]
		k := &Kind{APIVersion: apiVersion, Name: name, Schema: c.Store.part(of, r), Scope: textOf(of.Get("x-scope"))}
		if _, own := c.kinds[k.Key()]; !own {
			c.kinds[k.Key()] = k
		}
	}
}

func (c *Catalogue) allBuiltIn() {
	for apiVersion := range builtInFiles() {
		c.readBuiltIn(apiVersion)
	}
}

// Metadata returns the schema of the metadata of objects.
func (s *Schema) Metadata() *Schema { return s.store.metadata() }

// metadata is the schema of the metadata of all objects.
func (s *Store) metadata() *Schema {
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.load(&url.URL{Scheme: builtInScheme, Path: "/kinds/common.yaml"}, openAPI)
	return s.schema(r.root.Get("Metadata"), r)
}
