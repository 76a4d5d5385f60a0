package main

import (
	"fmt"
	"strings"

	"knothole/core/data"
	_ "knothole/core/expression" // as the program has it
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/value"
)

// workloads is how many objects are validated.
const workloads = 300

// objects is a stream of workloads, as people render them.
func objects() string {
	var b strings.Builder
	for i := range workloads {
		fmt.Fprintf(&b, `apiVersion: apps/v1
kind: Deployment
metadata:
  name: gauge-%[1]d
  labels: { app: gauge-%[1]d, part: intake }
spec:
  replicas: 2
  selector:
    matchLabels: { app: gauge-%[1]d }
  template:
    metadata:
      labels: { app: gauge-%[1]d }
    spec:
      containers:
        - name: intake
          image: registry.floodwatch.example/intake:1.%[1]d
          ports: [{ name: http, containerPort: 8080 }]
          env:
            - { name: PIER, value: pier-%[1]d }
            - { name: LEVEL, value: info }
          resources: { requests: { cpu: 100m, memory: 64Mi }, limits: { memory: 128Mi } }
          readinessProbe: { httpGet: { path: /ready, port: http }, periodSeconds: 5 }
          volumeMounts: [{ name: settings, mountPath: /etc/intake }]
      volumes: [{ name: settings, configMap: { name: gauge-%[1]d } }]
---
`, i)
	}
	return b.String()
}

// definition is a custom resource definition of about so many fields.
func definition(fields int) string {
	var b strings.Builder
	b.WriteString(`{"apiVersion": "apiextensions.k8s.io/v1", "kind": "CustomResourceDefinition",
"spec": {"group": "floodwatch.example", "names": {"kind": "Basin"}, "versions": [{"name": "v1",
"schema": {"openAPIV3Schema": {"type": "object", "properties": {"spec": {"type": "object", "properties": {`)
	for i := range fields / 10 {
		if i > 0 {
			b.WriteString(",\n")
		}
		fmt.Fprintf(&b, `"part%d": {"type": "object", `+
			`"description": "What the part of the basin with the number %d has.", "properties": {`, i, i)
		for j := range 10 {
			if j > 0 {
				b.WriteString(", ")
			}
			fmt.Fprintf(&b, `"field%d": {"type": "string", "description": "One of the fields of the part, of which `+
				`there are ten in all; it has a name and a form.", "pattern": "^[a-z]{1,63}$", "maxLength": 63}`, j)
		}
		b.WriteString("}}")
	}
	b.WriteString("}}}}}}]}}")
	return b.String()
}

// validation measures validating beside decoding the same YAML, and taking in a definition of 2 MB.
func validation() {
	sources := source.NewSet()
	text := objects()
	file, err := sources.Add("objects.yaml", []byte(text))
	if err != nil {
		panic(err)
	}
	documents, _ := data.ReadEach(file, nil, nil)
	catalogue := schema.NewCatalogue(schema.NewStore(sources))
	deployment := catalogue.Find("apps/v1", "Deployment").Schema
	beside("validate workloads", side{"knothole", func() string {
		wrong := 0
		for _, d := range documents {
			wrong += len(deployment.ValidateObject(d, nil).Problems)
		}
		return fmt.Sprintf("%d of %d wrong", wrong, len(documents))
	}}, side{"decoding", func() string {
		read, _ := data.ReadEach(file, nil, nil)
		return fmt.Sprintf("0 of %d wrong", len(read))
	}}, true)

	large := definition(9000)
	file, err = sources.Add("basin.json", []byte(large))
	if err != nil {
		panic(err)
	}
	root, _ := data.Read(file, data.JSON, nil)
	object := value.Put(value.RecordOf(value.NewShape(nil), nil, 0), []string{"spec", "part7", "field3"},
		value.StringOf("a", 0))
	beside(fmt.Sprintf("a definition of %.1f MB, used", float64(len(large))/1e6), side{"knothole", func() string {
		c := schema.NewCatalogue(schema.NewStore(sources))
		kinds, _ := c.Add("basin.json", schema.Document{Root: root})
		return fmt.Sprint(len(kinds[0].Schema.ValidateObject(object, nil).Problems))
	}}, side{"decoding", func() string {
		_, findings := data.Read(file, data.JSON, nil)
		return fmt.Sprint(len(findings))
	}}, true)
	beside("  and all of it", side{"knothole", func() string {
		c := schema.NewCatalogue(schema.NewStore(sources))
		kinds, _ := c.Add("basin.json", schema.Document{Root: root})
		return fmt.Sprint(len(kinds[0].Schema.Mistakes()))
	}}, side{"decoding", func() string {
		_, findings := data.Read(file, data.JSON, nil)
		return fmt.Sprint(len(findings))
	}}, true)
}
