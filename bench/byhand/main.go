// Command byhand renders the generated fleet as a program does that was written for just this: structures with tags,
// the same YAML library, one goroutine for each core.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"sort"

	"go.yaml.in/yaml/v4"
	"golang.org/x/sync/errgroup"
)

type service struct {
	Name     string            `json:"name"`
	Port     int               `json:"port"`
	Public   bool              `json:"public"`
	Settings map[string]string `json:"settings"`
}

type environment struct {
	Replicas int    `json:"replicas"`
	Domain   string `json:"domain"`
	Version  string `json:"version"`
	Level    string `json:"level"`
}

type labels struct {
	Name   string `yaml:"app.floodwatch.example/name"`
	PartOf string `yaml:"app.floodwatch.example/part-of,omitempty"`
	Coast  string `yaml:"app.floodwatch.example/coast,omitempty"`
}

type metadata struct {
	Name   string `yaml:"name,omitempty"`
	Labels labels `yaml:"labels"`
}

type object struct {
	APIVersion string            `yaml:"apiVersion"`
	Kind       string            `yaml:"kind"`
	Metadata   metadata          `yaml:"metadata"`
	Spec       any               `yaml:"spec,omitempty"`
	Data       map[string]string `yaml:"data,omitempty"`
}

type selector struct {
	MatchLabels labels `yaml:"matchLabels"`
}

type deployment struct {
	Replicas int      `yaml:"replicas"`
	Selector selector `yaml:"selector"`
	Template template `yaml:"template"`
}

type template struct {
	Metadata metadata `yaml:"metadata"`
	Spec     pod      `yaml:"spec"`
}

type pod struct {
	Containers []container `yaml:"containers"`
}

type container struct {
	Name           string     `yaml:"name"`
	Image          string     `yaml:"image"`
	Ports          []any      `yaml:"ports"`
	Env            []variable `yaml:"env"`
	Resources      resources  `yaml:"resources"`
	ReadinessProbe probe      `yaml:"readinessProbe"`
}

type containerPort struct {
	Name          string `yaml:"name"`
	ContainerPort int    `yaml:"containerPort"`
}

type variable struct {
	Name  string `yaml:"name"`
	Value string `yaml:"value"`
}

type amounts struct {
	CPU    string `yaml:"cpu"`
	Memory string `yaml:"memory"`
}

type resources struct {
	Limits   amounts `yaml:"limits"`
	Requests amounts `yaml:"requests"`
}

type probe struct {
	HTTPGet struct {
		Path string `yaml:"path"`
		Port string `yaml:"port"`
	} `yaml:"httpGet"`
	PeriodSeconds int `yaml:"periodSeconds"`
}

type servicePort struct {
	Name       string `yaml:"name"`
	Port       int    `yaml:"port"`
	TargetPort string `yaml:"targetPort"`
}

type serviceSpec struct {
	Selector labels        `yaml:"selector"`
	Ports    []servicePort `yaml:"ports"`
}

type backend struct {
	Service struct {
		Name string `yaml:"name"`
		Port struct {
			Number int `yaml:"number"`
		} `yaml:"port"`
	} `yaml:"service"`
}

type ingressPath struct {
	Path     string  `yaml:"path"`
	PathType string  `yaml:"pathType"`
	Backend  backend `yaml:"backend"`
}

type rule struct {
	Host string `yaml:"host"`
	HTTP struct {
		Paths []ingressPath `yaml:"paths"`
	} `yaml:"http"`
}

type ingress struct {
	Rules []rule `yaml:"rules"`
}

type policyPort struct {
	Port int `yaml:"port"`
}

type policyIngress struct {
	Ports []policyPort `yaml:"ports"`
}

type policy struct {
	PodSelector selector        `yaml:"podSelector"`
	Ingress     []policyIngress `yaml:"ingress"`
}

func main() {
	if err := render(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func read(name string, to any) error {
	text, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	return json.Unmarshal(text, to)
}

func render(project, out string) error {
	var services []service
	var environments map[string]environment
	if err := read(filepath.Join(project, "services.json"), &services); err != nil {
		return err
	}
	if err := read(filepath.Join(project, "environments.json"), &environments); err != nil {
		return err
	}
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for name, e := range environments {
		group.Go(func() error {
			for _, s := range services {
				if err := renderService(filepath.Join(out, name, s.Name), name, e, s); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return group.Wait()
}

func renderService(folder, name string, e environment, s service) error {
	coast := "none"
	if name == "north" || name == "south" || name == "east" {
		coast = name
	}
	own, all := labels{Name: s.Name}, labels{s.Name, "flood-watch", coast}
	replicas := e.Replicas
	if s.Public {
		replicas *= 2
	}
	env := []variable{{"LOG_LEVEL", e.Level}}
	keys := make([]string, 0, len(s.Settings))
	for key := range s.Settings {
		keys = append(keys, key)
	}
	sort.Strings(keys)
	for _, key := range keys {
		env = append(env, variable{key, s.Settings[key]})
	}
	c := container{
		Name: s.Name, Image: "registry.floodwatch.example/" + s.Name + ":" + e.Version,
		Ports: []any{containerPort{"main", s.Port}}, Env: env,
		Resources: resources{amounts{"500m", "256Mi"}, amounts{"100m", "128Mi"}},
	}
	c.ReadinessProbe.HTTPGet.Path, c.ReadinessProbe.HTTPGet.Port, c.ReadinessProbe.PeriodSeconds = "/ready", "main", 10
	var b backend
	b.Service.Name, b.Service.Port.Number = s.Name, s.Port
	r := rule{Host: s.Name + "." + e.Domain}
	r.HTTP.Paths = []ingressPath{{"/", "Prefix", b}}
	meta := metadata{s.Name, all}
	documents := map[string]object{
		"deployment.yaml": {"apps/v1", "Deployment", meta,
			deployment{replicas, selector{own}, template{metadata{Labels: all}, pod{[]container{c}}}}, nil},
		"service.yaml": {"v1", "Service", meta, serviceSpec{own, []servicePort{{"main", s.Port, "main"}}}, nil},
		"config.yaml": {"v1", "ConfigMap", meta, nil, map[string]string{
			"service.conf": fmt.Sprintf("name=%s\nport=%d\nlevel=%s\n", s.Name, s.Port, e.Level),
			"ADDRESS":      fmt.Sprintf("http://%s:%d/", s.Name, s.Port),
		}},
		"account.yaml": {"v1", "ServiceAccount", meta, nil, nil},
		"route.yaml":   {"networking.k8s.io/v1", "Ingress", meta, ingress{[]rule{r}}, nil},
		"policy.yaml": {"networking.k8s.io/v1", "NetworkPolicy", meta,
			policy{selector{own}, []policyIngress{{[]policyPort{{s.Port}}}}}, nil},
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	var text bytes.Buffer
	for name, d := range documents {
		text.Reset()
		dumper, err := yaml.NewDumper(&text, yaml.WithIndent(2))
		if err != nil {
			return err
		}
		if err := dumper.Dump(d); err != nil {
			return err
		}
		if err := dumper.Close(); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(folder, name), text.Bytes(), 0o644); err != nil {
			return err
		}
	}
	return nil
}
