package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"go.yaml.in/yaml/v4"
)

// Sizes of the generated fleet: six documents for each service in each environment.
const (
	fleetServices = 200
	fleetRounds   = 10
)

var fleetEnvironments = []string{"bench", "rehearsal", "north", "south", "east"}

// fleetTemplate is the fleet as a project of Knothole. The programs it is measured beside build the same by hand.
const fleetTemplate = `use "./services.json" as services: [Service]

type Service = {
  name: string where it matches '^[a-z0-9-]+$' else "a service is named in lower-case letters, not ${it}"
  port: int where it in 1..65535
  public: bool = false
  settings: { *: string } = {}
}

## Copies of a service, unless it says otherwise.
input replicas: int = 1 where it in 1..50
input domain: string
input version: string
input level: "debug" | "info" | "warning" = "info"

let coast = match env.name { "north" | "south" | "east" -> env.name, else -> "none" }

fn labels(name: string) -> { *: string } = {
  "app.floodwatch.example/name": name
  "app.floodwatch.example/part-of": "flood-watch"
  "app.floodwatch.example/coast": coast
}

fn object(api: string, kind: string, name: string) = { apiVersion: api, kind: kind, metadata: { name: name, labels: labels(name) } }

for s in services {
  document "${s.name}/deployment.yaml" = {
    ...object("apps/v1", "Deployment", s.name)
    spec: {
      replicas: if s.public then replicas * 2 else replicas
      selector: { matchLabels: { "app.floodwatch.example/name": s.name } }
      template: {
        metadata: { labels: labels(s.name) }
        spec: {
          containers: [{
            name: s.name
            image: "registry.floodwatch.example/${s.name}:${version}"
            ports: [{ name: "main", containerPort: s.port }]
            env: [{ name: "LOG_LEVEL", value: level }, ...for key, text in s.settings -> { name: key, value: text }]
            resources: { limits: { cpu: "500m", memory: "256Mi" }, requests: { cpu: "100m", memory: "128Mi" } }
            readinessProbe: { httpGet: { path: "/ready", port: "main" }, periodSeconds: 10 }
          }]
        }
      }
    }
  }
  document "${s.name}/service.yaml" = {
    ...object("v1", "Service", s.name)
    spec: { selector: { "app.floodwatch.example/name": s.name }, ports: [{ name: "main", port: s.port, targetPort: "main" }] }
  }
  document "${s.name}/config.yaml" = {
    ...object("v1", "ConfigMap", s.name)
    data: { "service.conf": "name=${s.name}\nport=${s.port}\nlevel=${level}\n", ADDRESS: "http://${s.name}:${s.port}/" }
  }
  document "${s.name}/account.yaml" = object("v1", "ServiceAccount", s.name)
  document "${s.name}/route.yaml" = {
    ...object("networking.k8s.io/v1", "Ingress", s.name)
    spec: {
      rules: [{
        host: "${s.name}.${domain}"
        http: { paths: [{ path: "/", pathType: "Prefix", backend: { service: { name: s.name, port: { number: s.port } } } }] }
      }]
    }
  }
  document "${s.name}/policy.yaml" = {
    ...object("networking.k8s.io/v1", "NetworkPolicy", s.name)
    spec: { podSelector: { matchLabels: { "app.floodwatch.example/name": s.name } }, ingress: [{ ports: [{ port: s.port }] }] }
  }
}
`

// writeFleet writes the project, and the data that all programs read.
func writeFleet(folder string, services int) error {
	type service struct {
		Name     string            `json:"name"`
		Port     int               `json:"port"`
		Public   bool              `json:"public,omitempty"`
		Settings map[string]string `json:"settings,omitempty"`
	}
	var all []service
	for i := range services {
		s := service{Name: fmt.Sprintf("gauge-%03d", i), Port: 7000 + i, Public: i%5 == 0}
		if i%3 == 0 {
			s.Settings = map[string]string{"PIER": fmt.Sprintf("pier %d", i), "ALARM": fmt.Sprint(300 + i)}
		}
		all = append(all, s)
	}
	text, err := json.Marshal(all)
	if err != nil {
		return err
	}
	project := "[project]\nname = \"fleet\"\n"
	files := map[string]string{"main.knot": fleetTemplate, "services.json": string(text)}
	values := map[string]map[string]any{}
	for i, name := range fleetEnvironments {
		project += fmt.Sprintf("[environments.%s]\nlayers = [\"%s.json\"]\n", name, name)
		values[name] = map[string]any{"replicas": 1 + i, "domain": name + ".floodwatch.example",
			"version": fmt.Sprintf("4.%d.0", i), "level": []string{"debug", "info", "warning"}[i%3]}
		layer, err := json.Marshal(values[name])
		if err != nil {
			return err
		}
		files[name+".json"] = string(layer)
	}
	environments, err := json.Marshal(values)
	if err != nil {
		return err
	}
	files["environments.json"], files["knothole.toml"] = string(environments), project
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// fleetProgram is one program that renders the fleet into a directory.
type fleetProgram struct {
	name    string
	command func(project, out string) *exec.Cmd
	again   bool // into the directory of the round before
}

// measured is how long a program took and how much memory it had at most, for each round.
type measured struct {
	times  []time.Duration
	memory []int64 // in bytes
}

func (m measured) median() time.Duration {
	sorted := slices.Clone(m.times)
	slices.Sort(sorted)
	return sorted[len(sorted)/2]
}

func (m measured) peak() int64 { return slices.Max(m.memory) }

// runFleet runs programs by turns, each into directories of its own.
func runFleet(programs []fleetProgram, project, work string, rounds int) (map[string]measured, error) {
	all := map[string]measured{}
	for round := range rounds + 1 {
		for _, p := range programs {
			// What is cold knows nothing of the round before, in the cache of the user either.
			out, cache := filepath.Join(work, p.name), filepath.Join(work, p.name+"-cache")
			if !p.again {
				for _, folder := range []string{out, cache} {
					if err := os.RemoveAll(folder); err != nil {
						return nil, err
					}
				}
			}
			c := p.command(project, out)
			if c.Env == nil {
				c.Env = os.Environ()
			}
			c.Env = append(c.Env, "XDG_CACHE_HOME="+cache)
			var errors bytes.Buffer
			c.Stderr = &errors
			start := time.Now()
			if err := c.Run(); err != nil {
				return nil, fmt.Errorf("%s: %w\n%s", p.name, err, errors.String())
			}
			took := time.Since(start)
			if round == 0 {
				continue // it warms up
			}
			m := all[p.name]
			m.times = append(m.times, took)
			if usage, ok := c.ProcessState.SysUsage().(*syscall.Rusage); ok {
				m.memory = append(m.memory, usage.Maxrss*1024)
			}
			all[p.name] = m
		}
	}
	return all, nil
}

// readFleet reads all YAML files of a directory, as data.
func readFleet(folder string) (map[string]any, int64, error) {
	all := map[string]any{}
	var size int64
	err := filepath.WalkDir(folder, func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(name, ".yaml") {
			return err
		}
		text, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		size += int64(len(text))
		var v any
		if err := yaml.Unmarshal(text, &v); err != nil {
			return err
		}
		relative, err := filepath.Rel(folder, name)
		all[filepath.ToSlash(relative)] = v
		return err
	})
	return all, size, err
}

// fleet measures the whole program on a generated fleet, beside a program in Go that builds the same by hand, and
// scripts in other languages with their common YAML libraries.
func fleet() error {
	work, err := os.MkdirTemp("", "fleet-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	project, larger := filepath.Join(work, "project"), filepath.Join(work, "larger")
	for folder, services := range map[string]int{project: fleetServices, larger: 2 * fleetServices} {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return err
		}
		if err := writeFleet(folder, services); err != nil {
			return err
		}
	}
	knothole, byHand := filepath.Join(work, "knothole"), filepath.Join(work, "byhand")
	for program, folder := range map[string]string{knothole: "../cmd/knothole", byHand: "byhand"} {
		build := exec.Command("go", "build", "-o", program, ".")
		build.Dir = folder // each is built in its own module
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if text, err := build.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w\n%s", folder, err, text)
		}
	}
	render := func(arguments ...string) func(project, out string) *exec.Cmd {
		return func(project, out string) *exec.Cmd {
			return exec.Command(knothole, append(arguments, "--project", project, "--quiet", "--to", out)...)
		}
	}
	cold := fleetProgram{"cold", render("render"), false}
	hand := fleetProgram{"by hand", func(project, out string) *exec.Cmd { return exec.Command(byHand, project, out) },
		false}
	programs := []fleetProgram{
		cold,
		{"warm", render("render"), true},
		{"check", func(project, out string) *exec.Cmd {
			return exec.Command(knothole, "check", "--project", project, "--quiet")
		}, false},
		hand,
	}
	m, err := runFleet(programs, project, work, fleetRounds)
	if err != nil {
		return err
	}
	ours, size, err := readFleet(filepath.Join(work, "cold"))
	if err != nil {
		return err
	}
	equal := func(name string) error {
		theirs, _, err := readFleet(filepath.Join(work, name))
		if err == nil && !reflect.DeepEqual(ours, theirs) {
			err = fmt.Errorf("%s made other data: %d documents, ours %d", name, len(theirs), len(ours))
		}
		return err
	}
	if err := equal("by hand"); err != nil {
		return err
	}
	fmt.Printf("\n%d services, %d environments, %d documents, %.1f MB; median of %d, %d cores\n", fleetServices,
		len(fleetEnvironments), len(ours), float64(size)/1e6, fleetRounds, runtime.GOMAXPROCS(0))
	base := m["by hand"].median()
	fmt.Printf("%-34s %9.1f ms\n", "by hand in Go", milliseconds(base))
	for _, name := range []string{"cold", "warm", "check"} {
		fmt.Printf("%-34s %9.1f ms   ratio %.2f\n", name, milliseconds(m[name].median()),
			float64(m[name].median())/float64(base))
	}
	fmt.Printf("%-34s %9.1f MB   allowed %.1f MB (6 x rendered + 64 MiB)\n", "peak memory of cold",
		float64(m["cold"].peak())/1e6, (6*float64(size)+64*(1<<20))/1e6)

	var small, large measured
	for range fleetRounds / 2 {
		for _, of := range []struct {
			project string
			to      *measured
		}{{project, &small}, {larger, &large}} {
			got, err := runFleet([]fleetProgram{cold}, of.project, work, 1)
			if err != nil {
				return err
			}
			of.to.times = append(of.to.times, got["cold"].times...)
		}
	}
	fmt.Printf("%-34s %9.1f ms   ratio %.2f\n", "twice the services", milliseconds(large.median()),
		float64(large.median())/float64(small.median()))

	scripts := []fleetProgram{
		{"node", func(project, out string) *exec.Cmd {
			c := exec.Command("node", "byhand/render.js", project, out)
			c.Env = append(os.Environ(), "NODE_PATH=/usr/share/nodejs:/usr/lib/node_modules")
			return c
		}, false},
		{"python", func(project, out string) *exec.Cmd {
			return exec.Command("python3", "byhand/render.py", project,
				out)
		}, false},
		{"python, plain", func(project, out string) *exec.Cmd {
			return exec.Command("python3", "byhand/render.py", project, out, "plain")
		}, false},
	}
	for _, s := range scripts {
		got, err := runFleet([]fleetProgram{s, cold}, project, work, 2)
		if err != nil {
			fmt.Printf("%-34s not measured: %s\n", s.name, strings.SplitN(err.Error(), "\n", 2)[0])
			continue
		}
		if ours, _, err = readFleet(filepath.Join(work, "cold")); err != nil {
			return err
		}
		if err := equal(s.name); err != nil {
			return err
		}
		fmt.Printf("%-34s %9.1f ms   it takes %.1f times as long\n", s.name, milliseconds(got[s.name].median()),
			float64(got[s.name].median())/float64(got["cold"].median()))
	}
	return nil
}
