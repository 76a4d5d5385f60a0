package schema_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/schema"
	"knothole/core/source"
)

// yamlSchema adds a schema in YAML, which says the same as JSON and is easier to read in a test.
func yamlSchema(t *testing.T, text string) (*source.Set, *schema.Schema) {
	t.Helper()
	sources := source.NewSet()
	file, err := sources.Add("piers.schema.yaml", []byte(text))
	require.NoError(t, err)
	d := schema.Document{Numbers: data.Numbers{}}
	var findings source.Findings
	d.Root, findings = data.ReadExact(file, data.YAML, nil, d.Numbers)
	require.Empty(t, findings)
	return sources, schema.NewStore(sources).Add(schema.FileURI("piers.schema.yaml"), d)
}

// TestProblems holds how errors are told: one for each, at the value, in words.
func TestProblems(t *testing.T) {
	const piers = `
type: object
required: [name]
additionalProperties: false
properties:
  name: { type: string, minLength: 2, pattern: "^[a-z]+$" }
  level: { type: integer, minimum: 0, maximum: 12345678901234567890123 }
  kind: { enum: [quay, jetty] }
  state: { type: string, enum: [open, shut] }
  height: { type: number, multipleOf: 0.1, exclusiveMaximum: 9 }
  lamps:
    type: array
    uniqueItems: true
    maxItems: 3
    items: { oneOf: [ { $ref: "#/$defs/lit" }, { $ref: "#/$defs/dark" } ] }
  tide: { anyOf: [ { type: string }, { type: integer } ] }
  port: { allOf: [ { type: integer }, { type: integer, maximum: 9 } ] }
  contact: { type: object, anyOf: [ { required: [mail] }, { required: [phone] } ] }
  never: false
  hook: { not: { required: [shell] } }
  at: { format: date-time }
  names: { propertyNames: { maxLength: 3 } }
  pair: { dependentRequired: { a: [b] } }
$defs:
  lit: { title: a lit lamp, type: object, required: [kind, power], properties: { kind: { const: lit }, power: { type: integer } } }
  dark: { title: a dark lamp, type: object, required: [kind], properties: { kind: { const: dark } } }
`
	for text, want := range map[string]string{
		`{}`:                       `: the field "name" is missing | add it: a string`,
		`{ nme: ab }`:              `nme: there is no field "nme" here | did you mean "name"?`,
		`{ name: 3 }`:              `name: expected a string, found 3 | write it in quotes: "3"`,
		`{ name: A }`:              `name: it must have at least 2 characters, found 1 character | `,
		`{ name: ab, level: "4" }`: `level: expected an integer, found "4" | write 4 without quotes`,
		`{ name: ab, level: 4.5 }`: `level: expected an integer, found 4.5 | `,
		`{ name: ab, level: 4.0 }`: ``,
		`{ name: ab, level: -1 }`:  `level: it must be at least 0, found -1 | `,
		`{ name: ab, level: 12345678901234567890124 }`: `level: it must be at most 12345678901234567890123, ` +
			`found 12345678901234567890124 | `,
		`{ name: ab, level: 12345678901234567890123 }`: ``,
		`{ name: ab, kind: quey }`: `kind: expected one of "quay", "jetty", found "quey" ` +
			`| did you mean "quay"?`,
		`{ name: ab, state: 4 }`: `state: expected one of "open", "shut", found 4 | ` +
			`write it in quotes: "4"`,
		`{ name: ab, height: 0.3 }`:  ``,
		`{ name: ab, height: 0.35 }`: `height: it must be a multiple of 0.1, found 0.35 | `,
		`{ name: ab, height: 9 }`:    `height: it must be less than 9, found 9 | `,
		`{ name: ab, lamps: [{ kind: dark }, { kind: dark }] }`: `lamps[1]: it is equal to element 0: { kind: "dark" } ` +
			`| leave one of them out`,
		`{ name: ab, lamps: [{ kind: lit }] }`: `lamps[0]: the field "power" is missing | add it: an ` +
			`integer`,
		`{ name: ab, lamps: [{ kind: lit, power: x }] }`: `lamps[0].power: expected an integer, found "x" | `,
		`{ name: ab, lamps: [{ kind: off }] }`: `lamps[0].kind: expected one of "lit", "dark", found ` +
			`"off" | `,
		`{ name: ab, lamps: { kind: dark } }`: `lamps: expected a list, found a record with 1 field ` +
			`| write a list, also of one element`,
		`{ name: ab, tide: [] }`: `tide: expected a string or an integer, found a list ` +
			`of 0 elements | `,
		`{ name: ab, port: x }`: `port: expected an integer, found "x" | `,
		`{ name: ab, contact: {} }`: `contact: one of the fields "mail" or "phone" must be ` +
			`here | add one of them`,
		`{ name: ab, never: 1 }`:           `never: nothing may be here | leave it out`,
		`{ name: ab, hook: { shell: x } }`: `hook: the field "shell" must not be here | leave it out`,
		`{ name: ab, at: "2026-02-30T00:00:00Z" }`: `at: expected a date and time, such as ` +
			`2026-03-31T06:30:00Z, found "2026-02-30T00:00:00Z" | `,
		`{ name: ab, names: { long: 1 } }`: `names.long: the name of a field: it must have at ` +
			`most 3 characters, found 4 characters | `,
		`{ name: ab, pair: { a: 1 } }`: `pair: the field "b" is missing, which must be there ` +
			`when "a" is | add it`,
		`[]`: `: expected a record, found a list of 0 elements | `,
	} {
		sources, s := yamlSchema(t, piers)
		require.Empty(t, s.Mistakes())
		file, err := sources.Add("piers.yaml", []byte(text))
		require.NoError(t, err)
		numbers := data.Numbers{}
		v, findings := data.ReadExact(file, data.YAML, nil, numbers)
		require.Empty(t, findings)
		result := s.Validate(v, numbers)
		require.Empty(t, result.Schema)
		var got []string
		for _, p := range result.Problems {
			got = append(got, fmt.Sprintf("%s: %s | %s", p.Path, p.Message, p.Help))
			require.Equal(t, "piers.schema.yaml", sources.File(p.Schema.Pos()).Path)
		}
		require.Equal(t, want, strings.Join(got, "; "), text)
	}
}

// TestMistakes holds what is said of schemas that are none, and that it is said at the place in the schema.
func TestMistakes(t *testing.T) {
	for text, want := range map[string]string{
		`type: strin`: `type: expected one of "array", "boolean", "integer", "null", "number", "object", "string", ` +
			`found "strin" (did you mean "string"?)`,
		`properties: { a: { required: yes please } }`:      `properties.a.required: expected a list, found "yes please"`,
		`$ref: "#/$defs/pier"`:                             `there is no /$defs in the schema`,
		`{ $defs: { piers: true }, $ref: "#/$defs/pier" }`: `there is no /$defs/pier in the schema (did you mean "piers"?)`,
		`$ref: "quay.json"`:                                `there is no schema quay.json`,
		`$ref: "https://quay.floodwatch.example/a.json"`:   `the schema https://quay.floodwatch.example/a.json is not here`,
		`pattern: "(a"`:                                    `pattern: expected a regular expression, found "(a"`,
		`pattern: "a(?=b)"`: `the pattern "a(?=b)" cannot be used: it looks ahead ` +
			`(?=…), which this program cannot do`,
		`$schema: "https://quay.floodwatch.example/dialect"`: `the dialect https://quay.floodwatch.example/dialect is ` +
			`not known`,
		`$ref: "#"`: `this reference leads back to itself without going into the value`,
		`{ anyOf: [{ $ref: "#" }, { items: { $ref: "#" } }] }`: `this reference leads back to itself without going into ` +
			`the value`,
		`{ $ref: "#/$defs/a", $defs: { a: { not: { $ref: "#/$defs/b" } }, b: { if: { $ref: "#/$defs/a" } } } }`: `this ` +
			`reference leads back to itself without going into the value`,
		`multipleOf: 0`: `multipleOf: it must be more than 0, found 0`,
		`{ name: heron, level: 4 }`: `this schema has none of the words of JSON Schema: it ` +
			`allows anything`,
		`minLength: -1`: `minLength: it must be at least 0, found -1`,
		`{ $schema: "http://json-schema.org/draft-04/schema#", exclusiveMinimum: true }`: `the field "minimum" is ` +
			`missing, which must be there when "exclusiveMinimum" is`,
	} {
		_, s := yamlSchema(t, text)
		findings := s.Mistakes()
		require.Len(t, findings, 1, "%s: %v", text, findings)
		got := findings[0].Message
		if strings.HasPrefix(findings[0].Help, "did you") {
			got += " (" + findings[0].Help + ")"
		}
		require.Equal(t, want, got, text)
		require.True(t, findings[0].Span.IsValid())
	}
	for _, text := range []string{`items: { $ref: "#" }`, `{ allOf: [{ $ref: "#/$defs/a" }, { $ref: "#/$defs/a" }], ` +
		`$defs: { a: { properties: { b: { $ref: "#" } } } } }`} {
		_, s := yamlSchema(t, text)
		require.Empty(t, s.Mistakes(), text)
	}
}
