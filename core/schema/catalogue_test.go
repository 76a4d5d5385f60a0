package schema_test

import (
	"os"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/value"
)

// validated validates the documents of a YAML text by their kinds, and returns what is wrong, a line for each.
func validated(t *testing.T, c *schema.Catalogue, text string) []string {
	t.Helper()
	file, err := c.Store.Sources.Add("object.yaml", []byte(text))
	require.NoError(t, err)
	documents, findings := data.ReadEach(file, nil, nil)
	require.Empty(t, findings)
	var lines []string
	for _, d := range documents {
		k := c.Find(d.Get("apiVersion").Text(), d.Get("kind").Text())
		require.NotNil(t, k, text)
		result := k.Schema.ValidateObject(d, nil)
		require.Empty(t, result.Schema)
		for _, p := range result.Problems {
			f := p.Finding("", d, schema.Places{At: func(o value.Origin) source.Pos { return o.Pos() },
				Key: func(value.Value, string, value.Value) source.Pos { return source.NoPos }})
			line := f.Message
			if f.Help != "" {
				line += " | " + f.Help
			}
			lines = append(lines, line)
		}
	}
	return lines
}

// TestBuiltIn: every kind that is built in is a right schema, and the manual names it.
func TestBuiltIn(t *testing.T) {
	c := schema.NewCatalogue(schema.NewStore(source.NewSet()))
	kinds := c.Kinds()
	require.Greater(t, len(kinds), 24)
	manual, err := os.ReadFile("../../docs/schemas.md")
	require.NoError(t, err)
	_, listed, ok := strings.Cut(string(manual), "### What is built in")
	require.True(t, ok)
	for _, k := range kinds {
		require.Empty(t, k.Schema.Mistakes(), k.Key())
		require.NotEmpty(t, k.Schema.Description(), k.Key())
		require.Contains(t, []string{"Cluster", "Namespaced"}, k.Scope, "the x-scope of %s", k.Key())
		require.Regexp(t, `\b`+k.Name+`\b`, listed, "docs/schemas.md names each kind that is built in")
		require.Contains(t, least, k.Name, "the least that a %s has", k.Name)
		require.Empty(t, validated(t, c, "apiVersion: "+k.APIVersion+"\nkind: "+k.Name+"\n"+least[k.Name]), k.Key())
	}
}

// least is the least that objects of some kinds have behind their version and kind.
var least = map[string]string{}

func init() {
	const metadata = "metadata: { name: mudflat }\n"
	const template = "template: { metadata: { labels: { app: mudflat } }, spec: { containers: [{ name: mudflat, " +
		"image: a }] } }"
	const selector = "selector: { matchLabels: { app: mudflat } }, "
	for _, name := range strings.Fields("Service ConfigMap Secret ServiceAccount PersistentVolumeClaim Namespace " +
		"ResourceQuota " +
		"Ingress IngressClass NetworkPolicy PodDisruptionBudget Role ClusterRole") {
		least[name] = metadata
	}
	least["PersistentVolumeClaim"] = metadata + "spec: { accessModes: [ReadWriteOnce], resources: { requests: { " +
		"storage: 1Gi } } }"
	for _, name := range []string{"Deployment", "StatefulSet", "DaemonSet"} {
		least[name] = metadata + "spec: { " + selector + template + " }"
	}
	least["Pod"] = metadata + "spec: { containers: [{ name: mudflat, image: a }] }"
	least["Job"] = metadata + "spec: { " + template + " }"
	least["CronJob"] = metadata + "spec: { schedule: '5 * * * *', jobTemplate: { spec: { " + template + " } } }"
	least["LimitRange"] = metadata + "spec: { limits: [{ type: Container, max: { cpu: 2 } }] }"
	least["HorizontalPodAutoscaler"] = metadata + "spec: { maxReplicas: 3, scaleTargetRef: { kind: Deployment, " +
		"name: mudflat } }"
	for _, name := range []string{"RoleBinding", "ClusterRoleBinding"} {
		least[name] = metadata + "roleRef: { apiGroup: rbac.authorization.k8s.io, kind: Role, name: mudflat }"
	}
	least["ReplicaSet"] = metadata + "spec: { " + selector + template + " }"
	least["PersistentVolume"] = metadata + "spec: { capacity: { storage: 1Gi }, nfs: { server: a, path: /b } }"
	least["Lease"] = metadata
	least["CustomResourceDefinition"] = metadata + "spec: { group: a, scope: Cluster, names: { kind: A, plural: as }, " +
		"versions: [{ name: v1, served: true, storage: true }] }"
	least["StorageClass"] = metadata + "provisioner: slow"
	least["PriorityClass"] = metadata + "value: 10"
}

// TestKinds holds what is said of objects that are wrong.
func TestKinds(t *testing.T) {
	const head = "apiVersion: apps/v1\nkind: Deployment\nmetadata: { name: mudflat }\n"
	const pods = "template: { metadata: { labels: { app: mudflat } }, spec: { containers: [{ name: mudflat, image: " +
		"a, %s }] } }"
	deployment := func(spec, container string) string {
		return head + "spec: { selector: { matchLabels: { app: mudflat } }, " +
			"" + spec + strings.Replace(pods, "%s", container, 1) + " }"
	}
	c := schema.NewCatalogue(schema.NewStore(source.NewSet()))
	for text, want := range map[string]string{
		deployment("replica: 2, ", ""): `spec.replica: there is no field "replica" here | did you mean "replicas"?`,
		deployment("strategy: null, ", "env: null"): `spec.strategy: null says nothing here: a server takes the field ` +
			`as if it were not there | leave it out; ` +
			`spec.template.spec.containers[mudflat].env: null says nothing here: a server takes the field as if it were ` +
			`not there | leave it out`,
		deployment("replicas: two, ", ""): `spec.replicas: expected an integer, ` +
			`found "two"`,
		deployment("replicas: null, ", ""): `spec.replicas: null says nothing ` +
			`here: a server takes the field as if it were not there | leave it out`,
		deployment("", "imagePullPolicy: Allways"): `spec.template.spec.containers[mudflat].imagePullPolicy: ` +
			`expected one of "Always", "IfNotPresent", "Never", found "Allways" | did you mean "Always"?`,
		deployment("", "env: [{ name: A, value: 3 "+
			"}]"): `spec.template.spec.containers[mudflat].env[A].value: expected a string, ` +
			`found 3 | write it in quotes: "3"`,
		deployment("", "env: [{ name: A, value: a }, { name: A, value: b "+
			"}]"): `spec.template.spec.containers[mudflat].env[1]: it has the same { name: "A" } as element 0 | leave ` +
			`one of them out`,
		deployment("", "resources: { limits: { memory: 64Mb } "+
			"}"): `spec.template.spec.containers[mudflat].resources.limits.memory: it must match the ` +
			`pattern ^[+-]?([0-9]+|[0-9]+\.[0-9]*|\.[0-9]+)(([KMGTPE]i)|[numkMGTPE]|[eE][+-]?[0-9]+)?$, found "64Mb" | An ` +
			`amount: a number with a unit, such as 250m, 64Mi or 2`,
		deployment("", "ports: [{ containerPort: 80 }, { containerPort: 80 "+
			"}]"): `spec.template.spec.containers[mudflat].ports[1]: it has the same { containerPort: 80, protocol: "TCP" ` +
			`} as element 0 | leave one of them out`,
		deployment("", "ports: [{ containerPort: 70000 "+
			"}]"): `spec.template.spec.containers[mudflat].ports[0].containerPort: it must be at most ` +
			`65535, found 70000`,
		head: `the field "spec" is missing | add it: a record`,
		head + "spec: { template: { spec: { containers: [] } } " +
			"}": `spec: the field "selector" is missing | ` +
			`add it: a record; spec.template.spec.containers: it must have at least 1 element, found none`,
		head + "data: {}\nspec: { selector: {}, template: { spec: { containers: [{ name: a }] } } " +
			"}": `data: there is no field "data" here | it has apiVersion, kind, metadata, ` +
			`spec, status`,
		"apiVersion: policy/v1\nkind: PodDisruptionBudget\nmetadata: { name: a }\nspec: { minAvailable: 1, " +
			"maxUnavailable: 1 }": `spec: the fields "minAvailable", "maxUnavailable" must not be here together`,
	} {
		require.Equal(t, want, strings.Join(validated(t, c, text), "; "), text)
	}
}

// TestMetadata: what a definition says of the metadata of its objects hardly matters, as for a server.
func TestMetadata(t *testing.T) {
	c, _ := ruled(t, `{ rule: "true" }`)
	const head = "apiVersion: floodwatch.example/v1\nkind: Gate\nspec: {}\n"
	require.Empty(t, validated(t, c, head+"metadata: { name: a, labels: { a: b } }"))
	require.Equal(t, []string{`metadata.lables: there is no field "lables" here | did you mean "labels"?`},
		validated(t, c, head+"metadata: { name: a, lables: { a: b } }"))
}

// TestFirstDefinitions: definitions of the first version have one schema for all versions, and keep what they do not
// name.
func TestFirstDefinitions(t *testing.T) {
	const definition = `
apiVersion: apiextensions.k8s.io/v1beta1
kind: CustomResourceDefinition
spec: { group: floodwatch.example, version: v1, names: { kind: Buoy }, %s
  validation: { openAPIV3Schema: { type: object, properties: { spec: { type: object,
    properties: { at: { type: integer } } } } } } }
`
	for says, want := range map[string][]string{
		"": {`spec.at: expected an integer, found "x"`},
		"preserveUnknownFields: false, ": {`spec.at: expected an integer, found "x"`,
			`spec.more: there is no field "more" here | it has at`},
	} {
		c := schema.NewCatalogue(schema.NewStore(source.NewSet()))
		file, err := c.Store.Sources.Add("buoy.yaml", []byte(strings.Replace(definition, "%s", says, 1)))
		require.NoError(t, err)
		require.Empty(t, c.AddFile(file))
		got := validated(t, c, "apiVersion: floodwatch.example/v1\nkind: Buoy\nmetadata: { name: a }\nspec: { at: x, "+
			"more: 1 }")
		require.Equal(t, want, got, says)
	}
}

// TestNamesOfDefinitions checks the file names of definitions: they are valid on every system, for kinds of any name.
func TestNamesOfDefinitions(t *testing.T) {
	for kind, want := range map[string]string{
		"Gate": "gate.yaml", "../Gate": "gate.yaml", "-rf": "rf.yaml", "a\nb": "a-b.yaml", "CON": "kind-con.yaml",
		"Com1": "kind-com1.yaml", "Console": "console.yaml",
	} {
		names := value.RecordOf(value.NewShape([]string{"kind"}), []value.Value{value.StringOf(kind, 0)}, 0)
		spec := value.RecordOf(value.NewShape([]string{"names"}), []value.Value{names}, 0)
		definition := value.RecordOf(value.NewShape([]string{"apiVersion", "kind", "spec"}), []value.Value{
			value.StringOf("apiextensions.k8s.io/v1", 0), value.StringOf("CustomResourceDefinition", 0), spec}, 0)
		found := schema.Definitions([]value.Value{definition})
		require.Len(t, found, 1, kind)
		require.Equal(t, want, found[0].FileName, kind)
	}
}

// TestServers holds what servers take for right that a strict reader of the standard would not.
func TestServers(t *testing.T) {
	const definition = `
apiVersion: apiextensions.k8s.io/v1
kind: CustomResourceDefinition
spec:
  group: floodwatch.example
  names: { kind: Buoy }
  versions:
  - name: v1
    schema:
      openAPIV3Schema:
        type: object
        properties:
          spec:
            type: object
            properties:
              name: { type: string, pattern: '(?i)^[[:alpha:]]+$' }
              colour: { type: string, nullable: true, enum: [red, green] }
              depth: { type: integer, default: null }
              limit: { type: integer, maximum: 18446744073709551615 }
              chain:
                type: object
                nullable: true
                properties: { links: { type: integer } }
                x-kubernetes-validations: [{ rule: self.links > 1 }]
`
	c := schema.NewCatalogue(schema.NewStore(source.NewSet()))
	file, err := c.Store.Sources.Add("buoy.yaml", []byte(definition))
	require.NoError(t, err)
	require.Empty(t, c.AddFile(file))
	require.Empty(t, c.Find("floodwatch.example/v1", "Buoy").Schema.Mistakes())
	const head = "apiVersion: floodwatch.example/v1\nkind: Buoy\nmetadata: { name: a }\nspec: "
	require.Empty(t, validated(t, c, head+"{ name: ABC, colour: null, limit: 9000000000000000000, chain: null }"))
	require.Empty(t, validated(t, c, head+"{ depth: 4.0 }"))
	require.Equal(t, []string{`spec.colour: expected one of "red", "green", found "blue"`},
		validated(t, c, head+"{ colour: blue }"))
}

// TestFormatsOfInts: in a definition of kinds, an int32 is one; in a schema of JSON, format says nothing of numbers.
func TestFormatsOfInts(t *testing.T) {
	c := schema.NewCatalogue(schema.NewStore(source.NewSet()))
	file, err := c.Store.Sources.Add("gate.yaml", []byte("apiVersion: apiextensions.k8s.io/v1\n"+
		"kind: CustomResourceDefinition\n"+
		"spec: { group: floodwatch.example, names: { kind: Gate }, versions: [{ name: v1, schema: { openAPIV3Schema: "+
		"{ type: object, properties: { low: { type: integer, format: int32 } } } } }] }\n"))
	require.NoError(t, err)
	require.Empty(t, c.AddFile(file))
	for low, mistakes := range map[string]int{"2147483647": 0, "2147483648": 1, "-2147483648": 0, "-2147483649": 1} {
		lines := validated(t, c, "{ apiVersion: floodwatch.example/v1, kind: Gate, metadata: { name: a }, low: "+low+" }")
		require.Len(t, lines, mistakes, low)
		require.Empty(t, judged(t, `{"type": "integer", "format": "int32"}`, low), low)
	}
}

// TestValuesKnownLater checks that what is known later, itself or within a record, is neither one of the values that a
// schema lists nor none of them.
func TestValuesKnownLater(t *testing.T) {
	lamp := func(colour value.Value) value.Value {
		var b value.Builder
		b.Set("colour", colour)
		return b.Record(0)
	}
	later := value.UnknownOf(value.String, "<colour>", value.Later, 0)
	for _, text := range []string{
		"enum: [red, green, { colour: red }]", "not: { enum: [blue, { colour: blue }] }",
		"if: { const: { colour: blue } }\nthen: false\nelse: { enum: [red, { colour: red }] }",
	} {
		_, s := yamlSchema(t, text)
		for _, v := range []value.Value{later, lamp(later), value.StringOf("red", 0), lamp(value.StringOf("red", 0))} {
			require.Empty(t, s.Validate(v, nil).Problems, "%s: %s", text, v.Show(40))
		}
		require.Len(t, s.Validate(lamp(value.StringOf("blue", 0)), nil).Problems, 1, text)
	}
}

// TestPlainDefinitions: the metadata of an object is validated also when its definition says no more than types do.
func TestPlainDefinitions(t *testing.T) {
	sources := source.NewSet()
	c := schema.NewCatalogue(schema.NewStore(sources))
	file, err := sources.Add("gate.yaml", []byte("apiVersion: apiextensions.k8s.io/v1\nkind: CustomResourceDefinition\n"+
		"spec: { group: floodwatch.example, names: { kind: Gate }, versions: [{ name: v1, schema: { openAPIV3Schema: "+
		"{ type: object, properties: { spec: { type: object, properties: { low: { type: integer } } } } } } }] }\n"))
	require.NoError(t, err)
	require.Empty(t, c.AddFile(file))
	object, err := sources.Add("a.yaml", []byte("metadata: { name: \"?\" }\nspec: { low: 1 }\n"))
	require.NoError(t, err)
	v, findings := data.Read(object, data.YAML, nil)
	require.Empty(t, findings)
	s := c.Find("floodwatch.example/v1", "Gate").Schema
	for _, result := range []*schema.Result{s.ValidateObject(v, nil), s.ValidateShaped(v, true)} {
		require.Len(t, result.Problems, 1)
		require.Contains(t, result.Problems[0].Message, "it must match the pattern")
	}
}

// TestDefinitionsSideBySide checks that a definition may be looked at by itself while objects are validated by it, as
// the files of one run are: it is for the detector of races.
func TestDefinitionsSideBySide(t *testing.T) {
	for round := range 20 {
		store := schema.NewStore(source.NewSet())
		c := schema.NewCatalogue(store)
		text, err := os.ReadFile("testdata/definitions/gate.yaml")
		require.NoError(t, err)
		file, err := store.Sources.Add("gate.yaml", text)
		require.NoError(t, err)
		documents, findings := data.ReadEach(file, nil, nil)
		require.Empty(t, findings)
		definition := schema.Document{Root: documents[0]}
		kinds, _ := c.Add("gate.yaml", definition)
		require.NotEmpty(t, kinds)
		var group sync.WaitGroup
		for i := range 6 {
			group.Go(func() {
				if i%2 == round%2 {
					schema.NewCatalogue(store).Add("gate.yaml", definition)
					return
				}
				for _, d := range documents[1:] {
					if k := c.Find(d.Get("apiVersion").Text(), d.Get("kind").Text()); k != nil {
						k.Schema.ValidateObject(d, nil)
					}
				}
				for _, k := range kinds {
					k.Schema.Mistakes()
				}
			})
		}
		group.Wait()
	}
}
