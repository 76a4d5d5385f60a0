package schema_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/schema"
	"knothole/core/source"
)

// suite is the directory of the official tests of JSON Schema; the test command of the repository names it.
const suite = "JSON_SCHEMA_TEST_SUITE"

// leftOut are cases of the official tests that the program decides otherwise, with the reason.
var leftOut = map[string]string{
	"draft7/content.json: validation of string-encoded content based on media type: " +
		"an invalid JSON document": contentIsANote,
	"draft7/content.json: validation of binary string-encoding: " +
		"an invalid base64 string (% is not a valid character)": contentIsANote,
	"draft7/content.json: validation of binary-encoded media type documents: " +
		"a validly-encoded invalid JSON document": contentIsANote,
	"draft7/content.json: validation of binary-encoded media type documents: " +
		"an invalid base64 string that is valid JSON": contentIsANote,
}

const contentIsANote = "what a text holds (contentMediaType, contentEncoding) is a note, as in the later versions"

// tested are the dialects by the directories of their tests.
var tested = map[string]string{
	"draft4": "http://json-schema.org/draft-04/schema#", "draft6": "http://json-schema.org/draft-06/schema#",
	"draft7": "http://json-schema.org/draft-07/schema#", "draft2019-09": "https://json-schema.org/draft/2019-09/schema",
	"draft2020-12": "https://json-schema.org/draft/2020-12/schema",
}

// testGroup is one schema of the official tests, with data.
type testGroup struct {
	Description string
	Schema      json.RawMessage
	Tests       []struct {
		Description string
		Data        json.RawMessage
		Valid       bool
	}
}

// read reads JSON that a test is made of.
func read(t *testing.T, sources *source.Set, name string, text []byte) schema.Document {
	t.Helper()
	file, err := sources.Add(name, text)
	require.NoError(t, err)
	d := schema.Document{Numbers: data.Numbers{}}
	var findings source.Findings
	d.Root, findings = data.ReadExact(file, data.JSON, nil, d.Numbers)
	require.Empty(t, findings, name)
	return d
}

// TestSuite holds the validator against the official tests: the required ones, with formats that say nothing, and those
// of formats, with formats that do.
func TestSuite(t *testing.T) {
	folder := os.Getenv(suite)
	if folder == "" {
		t.Skipf("%s does not name the directory of the official tests", suite)
	}
	for name, dialect := range tested {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			required, err := filepath.Glob(filepath.Join(folder, "tests", name, "*.json"))
			require.NoError(t, err)
			require.NotEmpty(t, required)
			formats, err := filepath.Glob(filepath.Join(folder, "tests", name, "optional", "format", "*.json"))
			require.NoError(t, err)
			require.NotEmpty(t, formats)
			asked, passed, sure := 0, 0, 0
			others, err := filepath.Glob(filepath.Join(folder, "tests", name, "optional", "*.json"))
			require.NoError(t, err)
			for i, file := range slices.Concat(required, others, formats) {
				text, err := os.ReadFile(file)
				require.NoError(t, err)
				var groups []testGroup
				require.NoError(t, json.Unmarshal(text, &groups))
				for _, g := range groups {
					sources := source.NewSet()
					store := schema.NewStore(sources)
					// What is asked of regular expressions is asked of the format, too.
					store.FormatsAreNotes = i < len(required)+len(others) &&
						filepath.Base(file) != "ecmascript-regex.json"
					store.Load = func(uri string) (schema.Document, bool) {
						path, ok := strings.CutPrefix(uri, "http://localhost:1234/")
						text, err := os.ReadFile(filepath.Join(folder, "remotes", path))
						if !ok || err != nil {
							return schema.Document{}, false
						}
						return read(t, sources, path, text), true
					}
					text := string(g.Schema)
					if !strings.Contains(text, `"$schema"`) && strings.HasPrefix(text, "{") {
						text = fmt.Sprintf(`{"$schema": %q, %s`, dialect, strings.TrimPrefix(text, "{"))
						text = strings.Replace(text, ", }", "}", 1)
					}
					s := store.Add("https://tests.floodwatch.example/schema.json",
						read(t, sources, "schema.json", []byte(text)))
					for _, test := range g.Tests {
						d := read(t, sources, "data.json", test.Data)
						result := s.Validate(d.Root, d.Numbers)
						label := fmt.Sprintf("%s/%s: %s: %s", name, filepath.Base(file), g.Description, test.Description)
						valid := len(result.Problems) == 0
						if certain(t, s, d, false) {
							sure++
						}
						asked++
						if reason, left := leftOut[label]; left {
							require.NotEqual(t, test.Valid, valid, "%s is decided as the tests have it: %s", label, reason)
							continue
						}
						if valid == test.Valid && len(result.Schema) == 0 {
							passed++
							continue
						}
						t.Errorf("%s\nvalid: %v\nschema: %s\ndata: %s\n%v", label, valid, text, test.Data, result.Schema)
					}
				}
			}
			t.Logf("%s: %d of %d", name, passed, asked)
			require.Greater(t, sure, asked/10, "the short way finds next to nothing")
		})
	}
}
