package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	gotypes "go/types"
	"os"
	"strings"
	"testing/fstest"

	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/syntax"
)

// knotholeSource is a module of about so many lines, as a large project has them.
func knotholeSource(lines int) string {
	var b strings.Builder
	b.WriteString("type Port = int where it in 1..65535\n")
	for i := 0; strings.Count(b.String(), "\n") < lines; i++ {
		for j := range 50 { // Count is not free
			n := i*50 + j
			fmt.Fprintf(&b, `## What service %[1]d needs.
type Service%[1]d = {
  name: string
  port: Port
  replicas: int = 2
  labels?: { *: string }
}

fn container%[1]d(name: string, port: int, debug: bool = false) -> { *: any } = {
  name: name
  image: "registry.floodwatch.example/${name}:4.2"
  ports: [{ containerPort: port }]
  args: if debug then ["--verbose", "--port=${port}"] else ["--port=${port}"]
}

let service%[1]d: Service%[1]d = { name: "gauge-%[1]d", port: 8000 + %[1]d %% 1000, labels: { coast: "north" } }

document "k8s/gauge-%[1]d.yaml" = {
  apiVersion: "apps/v1"
  kind: "Deployment"
  metadata: { name: service%[1]d.name, labels: service%[1]d.labels ?? {} }
  spec: {
    replicas: service%[1]d.replicas * 2 + 1
    template: { spec: { containers: [container%[1]d(service%[1]d.name, service%[1]d.port)] } }
  }
}

`, n)
		}
	}
	return b.String()
}

// goSource is a Go file of at least so many bytes that declares the like.
func goSource(size int) string {
	var b strings.Builder
	b.WriteString("package generated\n\ntype Container struct {\n\tName, Image string\n\tPorts []int\n\tArgs " +
		"[]string\n}\n\ntype Document struct {\n\tKind string\n\tReplicas int\n\tContainers []Container\n}\n\n")
	for n := 0; b.Len() < size; n++ {
		fmt.Fprintf(&b, `// Service%[1]d is what service %[1]d needs.
type Service%[1]d struct {
	Name     string
	Port     int
	Replicas int
	Labels   map[string]string
}

func container%[1]d(name string, port int, debug bool) Container {
	args := []string{"--port"}
	if debug {
		args = []string{"--verbose", "--port"}
	}
	return Container{
		Name:  name,
		Image: "registry.floodwatch.example/" + name + ":4.2",
		Ports: []int{port},
		Args:  args,
	}
}

var service%[1]d = Service%[1]d{Name: "gauge-%[1]d", Port: 8000 + %[1]d%%1000, Replicas: 2, Labels: map[string]string{"coast": "north"}}

var document%[1]d = Document{
	Kind:       "Deployment",
	Replicas:   service%[1]d.Replicas*2 + 1,
	Containers: []Container{container%[1]d(service%[1]d.Name, service%[1]d.Port, false)},
}

`, n)
	}
	return b.String()
}

func parsing() {
	ours := knotholeSource(10_000)
	theirs := goSource(len(ours))
	fmt.Printf("a module of %d lines, %d bytes; a Go file of %d lines, %d bytes\n", strings.Count(ours, "\n"),
		len(ours), strings.Count(theirs, "\n"), len(theirs))
	beside("parse", side{"knothole", func() string {
		file, err := source.NewSet().Add("main.knot", []byte(ours))
		must(err)
		tree := syntax.Parse(file)
		if len(tree.Findings) > 0 {
			fail(tree.Findings[0].Message)
		}
		return ""
	}}, side{"go/parser", func() string {
		_, err := parser.ParseFile(token.NewFileSet(), "main.go", theirs,
			parser.ParseComments|parser.SkipObjectResolution)
		must(err)
		return ""
	}}, false)
	files := fstest.MapFS{"main.knot": {Data: []byte(ours)}, project.FileName: {Data: []byte("[environments.bench]\n")}}
	beside("parse and check", side{"knothole", func() string {
		p, err := project.Load(files)
		must(err)
		if len(p.Findings) > 0 {
			fail(p.Findings[0].Message)
		}
		return ""
	}}, side{"go/types", func() string {
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, "main.go", theirs, parser.ParseComments|parser.SkipObjectResolution)
		must(err)
		info := &gotypes.Info{Types: map[ast.Expr]gotypes.TypeAndValue{}, Defs: map[*ast.Ident]gotypes.Object{},
			Uses: map[*ast.Ident]gotypes.Object{}}
		_, err = (&gotypes.Config{}).Check("generated", set, []*ast.File{file}, info)
		must(err)
		return ""
	}}, false)
}

func must(err error) {
	if err != nil {
		fail(err.Error())
	}
}

func fail(message string) {
	fmt.Fprintln(os.Stderr, message)
	os.Exit(1)
}
