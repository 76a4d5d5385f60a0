package project

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/value"
)

// NewEnvironment returns the entry of the project file for an environment that is like another, and its own layer:
// the values that the other decides for itself, and inputs without any value, as comments.
func (p *Project) NewEnvironment(name string, like *Environment) (entry, layerPath, layer string, err error) {
	switch {
	case !environmentName(name):
		return "", "", "", fmt.Errorf("%q cannot be the name of an environment: %s", name, namesOfFolders)
	case source.UnfitName(name) != "":
		return "", "", "", fmt.Errorf("%q cannot be the name of an environment: %s", name, source.UnfitName(name))
	case p.Environment(name) != nil:
		return "", "", "", fmt.Errorf("there is an environment %q already", name)
	}
	for _, e := range p.Environments {
		if source.FoldName(e.Name) == source.FoldName(name) {
			return "", "", "", fmt.Errorf("%s and %s are the same directory on file systems that ignore case", e.Name, name)
		}
	}
	own := p.Edit(like, "").own()
	format, extension, folder := data.YAML, ".yaml", "inputs"
	if len(own) > 0 {
		last := own[len(own)-1].Path
		folder = path.Dir(last)
		if of, ok := data.FormatOf(last); ok && of.Comment() != "" { // what is to be decided is in comments
			format, extension = of, path.Ext(last)
		}
	}
	layerPath = path.Join(folder, name+extension)
	return entryLike(name, layerPath, like, own), layerPath, p.layerLike(name, format, like, own), nil
}

// entryLike returns the entry of the project file for an environment like another, with a layer of its own in the
// place of those that only the other has.
func entryLike(name, layerPath string, like *Environment, own Layers) string {
	var layers []string
	for _, l := range like.Layers {
		if l.Into == "" && !slices.Contains(own, l) {
			layers = append(layers, data.Literal(value.StringOf(l.Path, 0), data.TOML))
		}
	}
	layers = append(layers, data.Literal(value.StringOf(layerPath, 0), data.TOML))
	var b strings.Builder
	fmt.Fprintf(&b, "[environments.%s]\n", tomlKey(name))
	if like.Extends != nil {
		fmt.Fprintf(&b, "extends = %q\n", like.Extends.Name)
	}
	if like.Unit != like.Unit.Project.Unit() {
		fmt.Fprintf(&b, "main = %q\n", like.Unit.Main)
	}
	fmt.Fprintf(&b, "layers = [%s]\n", strings.Join(layers, ", "))
	if like.Tags != nil && len(like.ownTags) > 0 {
		fmt.Fprintf(&b, "tags = %s\n", data.Literal(textList(like.ownTags), data.TOML))
	}
	for _, l := range like.Layers {
		switch {
		case l.Outputs != nil:
			fmt.Fprintf(&b, "# %s has the layer { %s, into = %q }\n", like.Name, l.Outputs, l.Into)
		case l.Into != "":
			fmt.Fprintf(&b, "# %s has the layer { file = %q, into = %q }\n", like.Name, l.Path, l.Into)
		}
	}
	if len(like.secrets) > 0 {
		fmt.Fprintf(&b, "\n# Where its secrets come from; those of %s:\n# [environments.%s.secrets]\n", like.Name,
			tomlKey(name))
		for _, r := range like.secrets {
			fmt.Fprintf(&b, "# %s = %s\n", r.Name(), r)
		}
	}
	return b.String()
}

// layerLike returns a layer with what another environment decides in layers that only it has, and with what has no
// value, as comments: it is to be decided here too.
func (p *Project) layerLike(name string, format data.Format, like *Environment, own Layers) string {
	shared := slices.DeleteFunc(p.Run(like).AllLayers(),
		func(l *Layer) bool { return slices.Contains(own, l) || l.Into != "" })
	var b strings.Builder
	fmt.Fprintf(&b, "## Values of %s. Decide the commented values; they are copied from %s.\n\n", name, like.Name)
	m := like.Unit.Module
	given := func(in *Input) value.Value { return at(own.Of(in.Object, true), in.Path[1:]) }
	var open []*Input
	for _, in := range p.InputsOf(m) {
		decided := !in.Required() || shared.Has(in.Path)
		if given(in).IsAbsent() && decided || in.Secret || in.Later {
			continue
		}
		open = append(open, in)
	}
	layer := blank{open: func(*Input) bool { return false }, given: given}
	if format == data.YAML {
		layer.yaml(&b, open, 0, -1)
	} else {
		layer.toml(&b, open, "## ", (*Input).Name)
	}
	return b.String()
}

func tomlKey(name string) string {
	if strings.Contains(name, ".") {
		return data.Literal(value.StringOf(name, 0), data.TOML)
	}
	return name
}

func textList(texts []string) value.Value {
	elements := make([]value.Value, len(texts))
	for i, s := range texts {
		elements[i] = value.StringOf(s, 0)
	}
	return value.ListOf(elements, 0)
}
