package command

import (
	"flag"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"knothole/core/data"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/outside/gate"
	"knothole/outside/secrets"
)

// given is what flags give an environment for one run, over what its layers say. What begins with the name of another
// environment and a colon is for that one, whose outputs this one reads.
type given struct {
	layers, inputs   []string
	later            []string
	identity, policy string
	reveal           reveal
}

// define adds the flags for layers, inputs and later values.
func (g *given) define(flags *flag.FlagSet) {
	flags.Func("layer", "one more layer for the environment: a `FILE`, or - for YAML from standard input",
		func(s string) error {
			g.layers = append(g.layers, s)
			return nil
		})
	flags.Func("input", "set an input or one of its fields for this run, `NAME=VALUE`; NAME=@FILE reads the value "+
		"from a file; repeatable",
		func(s string) error {
			if name, _, ok := strings.Cut(s, "="); !ok || name == "" {
				return fmt.Errorf("write NAME=VALUE or NAME=@FILE")
			}
			g.inputs = append(g.inputs, s)
			return nil
		})
	flags.Func("later", "give the values of later inputs from the layer `FILE`",
		func(s string) error {
			g.later = append(g.later, s)
			return nil
		})
}

// defineSecrets adds the flags for reading secrets.
func (g *given) defineSecrets(flags *flag.FlagSet) {
	flags.StringVar(&g.identity, "identity", "",
		"the `FILE` with the identity for age-encrypted files (default: "+secrets.IdentityVariable+")")
	flags.StringVar(&g.policy, "secret-policy", "",
		"a `FILE` outside of the project that says what else may be read, and which token goes to which host")
	flags.Var(&g.reveal, "reveal", "show secrets, on a terminal only; --reveal=always anywhere")
}

// any reports whether anything is given.
func (g *given) any() bool { return len(g.layers)+len(g.inputs)+len(g.later) > 0 }

// overrides reports whether layers or inputs are given. Later values are no others than those of the environment.
func (g *given) overrides() bool { return len(g.layers)+len(g.inputs) > 0 }

// apply puts the environment with what is given in place of the one that there is; when it cannot, it says so.
// Everything needs exactly one environment.
func (g *given) apply(c *call, p *opened, runs []*project.Run) (status int) {
	if !g.any() {
		return exitClean
	}
	if len(runs) != 1 || len(c.arguments) == 0 {
		return c.wrongUsage("--layer, --input and --later belong to one environment: name it")
	}
	runs[0], status = g.applyTo(c, p, runs[0])
	return status
}

// applyTo returns a run with what is given; when it cannot be, it says so.
func (g *given) applyTo(c *call, p *opened, r *project.Run) (with *project.Run, status int) {
	own, others := g.parted(p, r.Name)
	if len(others) > 0 {
		upstream := map[string]*project.Run{}
		for _, name := range slices.Sorted(maps.Keys(others)) {
			other := p.RunNamed(name)
			if other.Abstract || !other.FeedsInto(r.Environment) {
				return nil, c.wrongUsage("%s reads no outputs of %s, so that nothing can be given to that", r.Name, name)
			}
			if upstream[name], status = others[name].applyTo(c, p, other); status != exitClean {
				return nil, status
			}
		}
		r = r.WithUpstream(upstream)
	}
	g = own
	for _, name := range g.layers {
		if status := g.layer(c, p, name, func(shown string, format data.Format, text []byte) {
			r = r.WithLayer(shown, format, text)
		}); status != exitClean {
			return nil, status
		}
	}
	for _, s := range g.inputs {
		name, text, _ := strings.Cut(s, "=")
		label := "--input " + name
		if file, ok := strings.CutPrefix(text, "@"); ok {
			read, err := gate.ReadGiven(c.path(file))
			if err != nil {
				return nil, c.failed("--input %s: %s cannot be read: %s", name, file, plainError(err))
			}
			text, label = strings.TrimSuffix(strings.TrimSuffix(string(read), "\n"), "\r"), c.relative(c.path(file))
		} else if r.Unit.Module == nil {
			return r, exitClean // which is reported
		} else if in, err := r.Unit.InputNamed(name); err == nil && in.Secret {
			return nil, c.wrongUsage("the input %q is secret: write --input %s=@FILE, so that it does not stay in "+
				"the history of the shell", name, name)
		}
		with, err := r.WithInput(name, label, text)
		if err != nil {
			return nil, c.failed("%s", err)
		}
		r = with
	}
	for _, name := range g.later {
		if status := g.layer(c, p, name, func(shown string, format data.Format, text []byte) {
			r = r.WithLater(shown, format, text)
		}); status != exitClean {
			return nil, status
		}
	}
	return r, exitClean
}

// about returns what of all that is given concerns an environment: what is for no environment alone, if its main module
// has such inputs, and what is for those that tell it. It is nil when nothing does.
func (g *given) about(p *opened, e *project.Environment) *given {
	own, others := g.parted(p, e.Name)
	own.inputs = slices.DeleteFunc(own.inputs, func(text string) bool {
		name, _, _ := strings.Cut(text, "=")
		has := func(e *project.Environment) bool {
			if e.Unit.Module == nil {
				return false
			}
			_, err := e.Unit.InputNamed(name)
			return err == nil
		}
		return !has(e) && slices.ContainsFunc(p.Concrete(), has) // what none has is an error, which is told
	})
	for _, name := range slices.Sorted(maps.Keys(others)) {
		of := others[name]
		if !p.Environment(name).FeedsInto(e) {
			continue
		}
		for _, text := range of.inputs {
			own.inputs = append(own.inputs, name+":"+text)
		}
		for _, text := range of.layers {
			own.layers = append(own.layers, name+":"+text)
		}
		for _, text := range of.later {
			own.later = append(own.later, name+":"+text)
		}
	}
	if !own.any() {
		return nil
	}
	return own
}

// parted takes apart what is given to an environment, and what to others, by their names.
func (g *given) parted(p *opened, name string) (own *given, others map[string]*given) {
	own, others = &given{}, map[string]*given{}
	part := func(all []string, to func(*given) *[]string) {
		for _, text := range all {
			at := own
			if of, rest, ok := strings.Cut(text, ":"); ok && p.Environment(of) != nil {
				if text = rest; of != name {
					if others[of] == nil {
						others[of] = &given{}
					}
					at = others[of]
				}
			}
			*to(at) = append(*to(at), text)
		}
	}
	part(g.layers, func(g *given) *[]string { return &g.layers })
	part(g.inputs, func(g *given) *[]string { return &g.inputs })
	part(g.later, func(g *given) *[]string { return &g.later })
	return own, others
}

// openOne opens the project for the environment that the first argument names, with what is given to it. When
// something is wrong it says so; p is then nil.
func (g *given) openOne(c *call) (p *opened, run *project.Run, status int) {
	if p, status = c.open(); p == nil {
		return nil, nil, status
	}
	runs, ok := c.environments(p, c.arguments[:1])
	if !ok {
		return nil, nil, exitFailed
	}
	if status := g.apply(c, p, runs); status != exitClean {
		return nil, nil, status
	}
	return p, runs[0], exitClean
}

// layer reads the file of a layer.
func (g *given) layer(c *call, p *opened, name string, add func(shown string, format data.Format, text []byte)) int {
	if name == "-" {
		text, err := io.ReadAll(c.in)
		if err != nil {
			return c.failed("standard input cannot be read: %s", plainError(err))
		}
		add("standard input", data.YAML, text)
		return exitClean
	}
	format, ok := data.FormatOf(name)
	if !ok || !format.Readable() {
		return c.failed("%s has no file extension of a known format: layers end in %s", name,
			source.Either(data.ReadableExtensions()))
	}
	text, err := gate.ReadGiven(c.path(name))
	if err != nil {
		return c.failed("the layer %s cannot be read: %s", name, plainError(err))
	}
	add(p.shown(c, name), format, text)
	return exitClean
}

// path returns the whole path of a file that is named on the command line.
func (c *call) path(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(c.folder, name)
}

// shown returns how a file that is named on the command line is called among those of the project: messages put the
// way to the project before it.
func (p *opened) shown(c *call, name string) string {
	if to, err := filepath.Rel(p.folder, c.path(name)); err == nil {
		return filepath.ToSlash(to)
	}
	return filepath.ToSlash(name)
}

// source returns what reads the secrets of a project.
func (g *given) source(c *call, p *opened) (*secrets.Source, int) {
	root, err := gate.OpenRoot(p.folder)
	if err != nil {
		return nil, c.failed("%s", plainError(err))
	}
	s := &secrets.Source{Root: root, Identity: g.identity, IdentityName: g.identity}
	if secrets.IsIdentity(g.identity) {
		s.IdentityName = "--identity"
	}
	if s.Identity == "" {
		s.Identity, s.IdentityName = os.Getenv(secrets.IdentityVariable), secrets.IdentityVariable
	}
	if s.Identity != "" && !secrets.IsIdentity(s.Identity) {
		s.Identity = c.path(s.Identity)
	}
	if g.policy != "" {
		if s.Policy, err = secrets.ReadPolicy(c.path(g.policy), p.folder); err != nil {
			return nil, c.failed("%s", err)
		}
	}
	return s, exitClean
}

// reveal says whether secrets are shown: "" for no, "terminal" or "always".
type reveal string

func (r *reveal) String() string   { return string(*r) }
func (r *reveal) IsBoolFlag() bool { return true }

// Set reads --reveal and --reveal=always.
func (r *reveal) Set(s string) error {
	switch s {
	case "true", "terminal":
		*r = "terminal"
	case "always":
		*r = "always"
	case "false":
		*r = ""
	default:
		return fmt.Errorf("it is --reveal or --reveal=always")
	}
	return nil
}

// revealed reports whether secrets are to be shown. When they may not, it says so.
func (g *given) revealed(c *call) (bool, int) {
	if g.reveal == "terminal" && !c.terminal {
		return false, c.wrongUsage("--reveal shows secrets on a terminal only; --reveal=always shows them here too")
	}
	return g.reveal != "", exitClean
}
