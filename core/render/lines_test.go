package render_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/value"
)

// TestLines checks that on each line of the documents of the demo stands the value that is said to be there, and
// that each scalar is on a line.
func TestLines(t *testing.T) {
	p, err := project.Load(os.DirFS("../../demo/project"))
	require.NoError(t, err)
	results, findings, _ := render.All(p, p.Runs(p.Concrete()), render.Options{})
	require.Empty(t, findings)
	documents, scalars := 0, 0
	for _, r := range results {
		for i := range r.Documents {
			d := &r.Documents[i]
			text, err := d.Text()
			require.NoError(t, err)
			lines := render.Lines(d, text, r.Recorder(), p.Sources)
			require.Equal(t, strings.Count(string(text), "\n"), len(lines))
			documents++
			on := map[value.Value]bool{}
			for n, line := range lines {
				if !line.Value.IsAbsent() {
					v := d.Value
					for _, step := range line.Path.Steps() {
						if step.Kind == place.Field {
							v = v.Get(step.Name)
						} else {
							v = v.Elements()[step.Index]
						}
					}
					if line.Number > 0 {
						v = value.StringOf(strings.Split(v.Text(), "\n")[line.Number-1], 0)
					}
					require.True(t, value.Identical(v, line.Value), "%s:%d: %s", d.Path, n+1, line.Path)
				}
				scalar, ok := line.Value.Scalar()
				if !ok {
					continue
				}
				scalars++
				on[line.Value] = true
				if d.Format == data.Text {
					require.Contains(t, scalar, line.Text, "%s:%d", d.Path, n+1)
					continue
				}
				if strings.Contains(scalar, "\n") {
					require.True(t, strings.HasSuffix(line.Text, "|"), "a text of several lines begins behind its key")
					continue
				}
				require.Contains(t, line.Text, scalar, "%s:%d", d.Path, n+1)
			}
			if d.Format == "yaml" { // where each scalar has a line of its own
				value.Walk([]value.Value{d.Value}, func(v value.Value) bool {
					if _, ok := v.Scalar(); ok {
						require.True(t, on[v], "%s: %s", d.Path, v.Show(40))
					}
					return true
				})
			}
		}
	}
	require.Greater(t, documents, 60)
	require.Greater(t, scalars, 800)
}

func document(format data.Format, v value.Value) render.Document {
	return render.Document{Document: eval.Document{Value: v}, Format: format}
}

// TestStreamOrder checks that what others need comes first, and otherwise what is declared first.
func TestStreamOrder(t *testing.T) {
	object := func(kind, name string) value.Value {
		return value.RecordOf(value.NewShape([]string{"kind", "name"}),
			[]value.Value{value.StringOf(kind, 0), value.StringOf(name, 0)}, 0)
	}
	list := value.ListOf([]value.Value{object("ConfigMap", "4"), object("Namespace", "1")}, 0)
	stream := document("yaml", list)
	stream.Stream = true
	objects, others := render.Stream([]render.Document{
		document("yaml", object("Ingress", "8")), document("yaml", object("Deployment", "5")),
		document("json", object("Deployment", "x")),
		stream, document("yaml", object("ServiceAccount", "3")),
		document("yaml", object("GaugeFeed", "6")),
		document("yaml", object("CustomResourceDefinition", "2")),
		document("yaml", value.StringOf("7", 0)),
	})
	require.Equal(t, 1, others)
	var order []string
	for _, o := range objects {
		v := o.Value
		if v.Kind() == value.Record {
			v = v.Get("name")
		}
		order = append(order, v.Text())
	}
	require.Equal(t, "1 2 3 4 5 6 7 8", strings.Join(order, " "))
}

// TestStreamOrderOfKinds holds for every kind that is ranked that it comes after what it needs: each group before
// the next.
func TestStreamOrderOfKinds(t *testing.T) {
	groups := [][]string{
		{"Namespace"}, {"CustomResourceDefinition", "PriorityClass", "StorageClass", "IngressClass"},
		{"ServiceAccount", "ClusterRole", "Role", "ClusterRoleBinding", "RoleBinding"},
		{"ConfigMap", "Secret", "PersistentVolume", "PersistentVolumeClaim", "LimitRange", "ResourceQuota",
			"NetworkPolicy"},
		{"Deployment", "CronJob", "GaugeFeed"}, {"Service", "Ingress", "HorizontalPodAutoscaler",
			"PodDisruptionBudget"},
	}
	var documents []render.Document
	var want []string
	for i := len(groups) - 1; i >= 0; i-- {
		for _, kind := range groups[i] {
			v := value.RecordOf(value.NewShape([]string{"kind"}), []value.Value{value.StringOf(kind, 0)}, 0)
			documents = append(documents, document("yaml", v))
		}
	}
	for _, g := range groups {
		want = append(want, g...)
	}
	objects, _ := render.Stream(documents)
	var got []string
	for _, o := range objects {
		got = append(got, place.Kind(o.Value))
	}
	require.Equal(t, want, got)
}
