package schema_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	_ "knothole/core/expression" // which knows the language of rules
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/value"
)

// ruled returns a catalogue with a definition whose spec has a rule.
func ruled(t *testing.T, rule string) (c *schema.Catalogue, findings source.Findings) {
	t.Helper()
	c = schema.NewCatalogue(schema.NewStore(source.NewSet()))
	text := `
apiVersion: apiextensions.k8s.io/v1
kind: CustomResourceDefinition
spec:
  group: floodwatch.example
  names: { kind: Gate }
  versions:
  - name: v1
    schema:
      openAPIV3Schema:
        type: object
        properties:
          spec:
            type: object
            x-kubernetes-validations: [` + rule + `]
            properties:
              low: { type: integer }
              high: { type: integer, default: 9 }
              name: { type: string }
              tide-table: { type: string }
              opened: { type: string, format: date-time }
              within: { type: string, format: duration }
              level: { type: number }
              size: { x-kubernetes-int-or-string: true }
              ports: { type: array, items: { type: integer } }
              labels: { type: object, additionalProperties: { type: string } }
              namespace: { type: string }
`
	file, err := c.Store.Sources.Add("gate.yaml", []byte(text))
	require.NoError(t, err)
	findings = c.AddFile(file)
	require.Empty(t, findings)
	return c, c.Find("floodwatch.example/v1", "Gate").Schema.Mistakes()
}

// TestRules holds what rules see, and how they are told.
func TestRules(t *testing.T) {
	const head = "apiVersion: floodwatch.example/v1\nkind: Gate\nspec: "
	for _, row := range []struct{ rule, spec, want string }{
		{`{ rule: self.low < self.high, message: low water is below high water }`, `{ low: 3 }`, ``},
		{`{ rule: self.low < self.high, message: low water is below high water }`, `{ low: 30 }`,
			`spec: low water is below high water`},
		{`{ rule: self.low < self.high, message: no, fieldPath: .low }`, `{ low: 30 }`, `spec.low: no`},
		{`{ rule: self.low < self.high, messageExpression: "'low is ' + string(self.low)" }`, `{ low: 30 }`,
			`spec: low is 30`},
		{`{ rule: "self.low   < self.high" }`, `{ low: 30 }`, `spec: the rule does not hold: self.low < self.high`},
		{`{ rule: self.low < self.high }`, `{}`,
			`spec: the rule does not hold: self.low < self.high: the rule cannot be computed: no such key: low`},
		{`{ rule: "!has(self.low) || self.low < 3" }`, `{}`, ``},
		{`{ rule: "self.tide__dash__table == 'a'" }`, `{ tide-table: a }`, ``},
		{`{ rule: "self.__namespace__ == 'a'" }`, `{ namespace: a }`, ``},
		{`{ rule: "self.opened > timestamp('2026-01-01T00:00:00Z')" }`, `{ opened: "2026-03-01T00:00:00Z" }`, ``},
		{`{ rule: "self.within < duration('1h')" }`, `{ within: 5m }`, ``},
		{`{ rule: "self.level > 1.5" }`, `{ level: 2 }`, ``},
		{`{ rule: "quantity(self.size).isLessThan(quantity('1Gi'))" }`, `{ size: 500Mi }`, ``},
		{`{ rule: "quantity(self.size).compareTo(quantity('1500m')) == 0" }`, `{ size: "1.5" }`, ``},
		{`{ rule: "isQuantity(self.size)" }`, `{ size: 1Gib }`, `spec: the rule does not hold: isQuantity(self.size)`},
		{`{ rule: "type(self.size) == int ? self.size > 3 : self.size.endsWith('%')" }`, `{ size: 50% }`, ``},
		{`{ rule: "self.ports.all(p, p > 1000) && self.ports.sum() < 5000 && self.ports.isSorted()" }`,
			`{ ports: [1001, 2000] }`, ``},
		{`{ rule: "self.ports.max() == 3 && self.ports.indexOf(3) == 1 && self.ports.exists_one(p, p == 3)" }`,
			`{ ports: [1, 3] }`, ``},
		{`{ rule: "self.labels.all(k, k.startsWith('tide/') && self.labels[k] != '')" }`, `{ labels: { tide/a: x } }`, ``},
		{`{ rule: "self.name.find('[0-9]+') == '12' && self.name.findAll('[a-z]').size() == 3" }`, `{ name: ab12c }`, ``},
		{`{ rule: "isURL(self.name) && url(self.name).getHost() == 'a.example:80'" }`, `{ name: ` +
			`"https://a.example:80/b" }`, ``},
		{`{ rule: "cidr('198.51.100.0/24').containsIP(ip(self.name))" }`, `{ name: 198.51.100.7 }`, ``},
		{`{ rule: "self.name.split(',').size() == 2 && sets.contains([1, 2], [1]) && math.greatest(1, 2) == 2" }`,
			`{ name: "a,b" }`, ``},
		{`{ rule: "cidr('198.51.100.0/24').containsIP(self.name) && isIP(self.name) && ip(self.name).family() == 4" }`,
			`{ name: 198.51.100.7 }`, ``},
		{`{ rule: "!format.dns1123Label().validate(self.name).hasValue()" }`, `{ name: tern-1 }`, ``},
		{`{ rule: "!format.named('labelValue').value().validate(self.name).hasValue()",` +
			` messageExpression: "format.labelValue().validate(self.name).value().join('; ')" }`, `{ name: "-" }`,
			"spec: expected the value of a label: letters, digits, -, _ and ., at most 63"},
		{`{ rule: "format.named('heron').hasValue() || format.qualifiedName().validate(self.name) == optional.none()" }`,
			`{ name: floodwatch.example/heron }`, ``},
		{`{ rule: "semver(self.name).isGreaterThan(semver('1.2.3-rc.1')) && semver(self.name).major() == 1" }`,
			`{ name: 1.2.3 }`, ``},
		{`{ rule: "semver('1.0.0-2').isLessThan(semver('1.0.0-10')) && semver('1.0.0-10').isLessThan(semver('1.0.0-a'))` +
			` && semver('1.0.0-a').isLessThan(semver('1.0.0-a.1')) && semver('1.0.0+a').compareTo(semver('1.0.0')) == 0" }`,
			`{ name: 1.2.3 }`, ``},
		{`{ rule: "isSemver(self.name, true) && !isSemver(self.name) && semver(self.name, true).minor() == 2" }`,
			`{ name: v01.2 }`, ``},
		{`{ rule: "self.low == oldSelf.low" }`, `{ low: 3 }`, ``},
		{`{ rule: "self.?low.orValue(5) == 5" }`, `{}`, ``},
	} {
		c, mistakes := ruled(t, row.rule)
		require.Empty(t, mistakes, row.rule)
		got := strings.Join(validated(t, c, head+row.spec), "; ")
		require.Equal(t, row.want, got, row.rule)
	}
	for rule, want := range map[string]string{
		`{ rule: "self.low <" }`:   `the rule cannot be read: Syntax error: `,
		`{ rule: "self.low + 1" }`: `the rule gives int, not bool`,
		`{ rule: "'a'" }`:          `the rule gives string, not bool`,
		`{ rule: "lowest(self)" }`: `the rule cannot be read: undeclared reference to 'lowest'`,
		`{ message: none }`:        `the field "rule" is missing`,
	} {
		_, mistakes := ruled(t, rule)
		require.Len(t, mistakes, 1, rule)
		require.Contains(t, mistakes[0].Message, want)
	}
}

// TestTransitions: a rule about a change is counted, not judged, and one that costs too much is refused.
func TestTransitions(t *testing.T) {
	c, _ := ruled(t, `{ rule: "self.low == oldSelf.low" }`)
	k := c.Find("floodwatch.example/v1", "Gate")
	file, err := c.Store.Sources.Add("a.yaml", []byte("spec: { low: 1 }"))
	require.NoError(t, err)
	v, _ := data.Read(file, data.YAML, nil)
	require.Equal(t, 1, k.Schema.ValidateObject(v, nil).Transitions)
	c, _ = ruled(t, `{ rule: "self.ports.all(a, self.ports.all(b, self.ports.all(c, a + b + c > 0)))" }`)
	ports := strings.Repeat("1, ", 300)
	got := validated(t, c, "apiVersion: floodwatch.example/v1\nkind: Gate\nspec: { ports: ["+ports+"] }")
	require.Len(t, got, 1)
	require.Contains(t, got[0], "it costs too much")
}

// TestRulesKeepSecrets: what the library says of a secret is not passed on.
func TestRulesKeepSecrets(t *testing.T) {
	c, _ := ruled(t, `{ rule: "quantity(self.size).sign() == 1", messageExpression: "'not ' + self.size" }`)
	file, err := c.Store.Sources.Add("a.yaml", []byte("spec: { size: tern }"))
	require.NoError(t, err)
	v, _ := data.Read(file, data.YAML, nil)
	s := c.Find("floodwatch.example/v1", "Gate").Schema
	require.Contains(t, s.ValidateObject(v, nil).Problems[0].Message, "tern")
	problems := s.ValidateObject(value.MarkAll(v, value.Secret), nil).Problems
	require.Len(t, problems, 1)
	require.NotContains(t, problems[0].Message, "tern")
}

// TestWithoutLanguage: a program without the language of rules says which rules it does not check.
func TestWithoutLanguage(t *testing.T) {
	defer schema.WithoutLanguage()()
	_, mistakes := ruled(t, `{ rule: "self.low < 5" }`)
	require.Len(t, mistakes, 1)
	require.Equal(t, source.Warning, mistakes[0].Severity)
	require.Contains(t, mistakes[0].Message, "the rule is not checked")
}
