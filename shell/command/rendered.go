package command

import (
	"bytes"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"knothole/core/render"
	"knothole/core/source"
	"knothole/outside/folder"
	"knothole/outside/gate"
)

// committed is a rendered file that is not as it would be rendered.
type committed struct {
	finding source.Finding
	diff    string // of the lines, from what is there to what would be rendered
}

// renderedFiles compares rendered files with what would be rendered, one environment after the other.
type renderedFiles struct {
	c         *call
	p         *opened
	differing []committed
	failed    bool // something is wrong, so that not all would be rendered
}

// compare compares the rendered files of an environment. The error is one of reading them.
func (r *renderedFiles) compare(result *render.Result) error {
	if r.failed = r.failed || result.Findings.HasErrors(); r.failed {
		return nil
	}
	e := (&rendering{}).encode(result, nil, nil)
	if e.err != nil {
		return e.err
	}
	found, err := r.c.compareFiles(r.p, e, path.Join(r.p.Out, e.environment.Name))
	r.differing = append(r.differing, found...)
	return err
}

// compareFiles compares the rendered files of one environment, which are in a directory of the project.
func (c *call) compareFiles(p *opened, e *encoded, base string) ([]committed, error) {
	to := filepath.Join(p.folder, filepath.FromSlash(p.Out))
	if !gate.Within(p.folder, to) {
		return nil, fmt.Errorf("%s leads out of the project", p.Out)
	}
	there, err := folder.Read(to, e.environment.Name)
	if err != nil {
		return nil, err
	}
	defer there.Close()
	record, err := there.Record()
	if err != nil {
		return nil, err
	}
	var differing []committed
	if exists, _, err := gate.Exists(filepath.Join(to, e.environment.Name)); err == nil && !exists && len(e.plain) > 0 {
		return []committed{{finding: renderedFinding(source.Span{}, e.environment.Name, "knothole render writes them",
			"%s is missing, with %s", base, source.Count(len(e.plain), "file"))}}, nil
	}
	known := map[string]bool{}
	var ends []string // files of which only the line endings differ
	for _, f := range e.plain {
		known[f.Path] = true
		name := path.Join(base, f.Path)
		text, exists, err := there.File(f.Path)
		switch {
		case err == nil && !exists:
			differing = append(differing,
				committed{finding: renderedFinding(source.Span{}, e.environment.Name, "knothole render writes it",
					"%s is missing", name)})
			continue
		case err != nil:
			return nil, fmt.Errorf("%s cannot be read: %w", name, plainError(err))
		case bytes.Equal(text, f.Data):
			continue
		}
		file, err := p.Sources.Add(name, text)
		if err != nil {
			return nil, err
		}
		message, help := "this is not what would be rendered now", "knothole render writes it anew"
		if digest, ok := record[f.Path]; !ok || digest != folder.Digest(text) {
			message, help = "this file was changed since it was rendered",
				"change the sources instead; knothole render --overwrite writes it anew"
		}
		if folder.SameLines(text, f.Data) {
			ends = append(ends, name)
			continue
		}
		line := firstDifference(folder.PlainLines(text), folder.PlainLines(f.Data))
		column := 1 + len(file.Line(line)) - len(strings.TrimLeft(file.Line(line), " \t"))
		differing = append(differing, committed{
			finding: renderedFinding(file.LineSpan(line, column), e.environment.Name, help, "%s", message),
			diff:    unified(name, name, text, f.Data),
		})
	}
	if ends != nil {
		more := ""
		if len(ends) > 1 {
			more = fmt.Sprintf(" and %s more", source.Count(len(ends)-1, "file"))
		}
		differing = append(differing, committed{finding: renderedFinding(source.Span{}, e.environment.Name,
			"git may have changed them: commit "+path.Join(p.Out, ".gitattributes")+" with the line * -text, and check "+
				"the files out again",
			"%s%s: only the line endings differ from what is rendered", ends[0], more)})
	}
	for _, name := range sortedKeys(record) {
		if _, exists, _ := there.File(name); exists && !known[name] {
			differing = append(differing,
				committed{finding: renderedFinding(source.Span{}, e.environment.Name,
					"knothole render removes it", "%s is no longer rendered", path.Join(base, name))})
		}
	}
	return differing, nil
}

func renderedFinding(span source.Span, environment, help, format string, arguments ...any) source.Finding {
	return source.Finding{Code: source.RenderedDiffers, Span: span, Help: help,
		Message: fmt.Sprintf(format, arguments...), Environments: []string{environment}}
}

func sortedKeys(m map[string]string) []string {
	keys := make([]string, 0, len(m))
	for key := range m {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	return keys
}

// unified shows what differs between two texts, and line endings only when nothing else does.
func unified(from, to string, before, after []byte) string {
	if a, b := folder.PlainLines(before), folder.PlainLines(after); !bytes.Equal(a, b) {
		before, after = a, b
	}
	return udiff.Unified(from, to, string(before), string(after))
}

// firstDifference returns the number of the first line in which two texts differ, of the first text.
func firstDifference(a, b []byte) int {
	line := 1
	for i := 0; i < len(a) && i < len(b) && a[i] == b[i]; i++ {
		if a[i] == '\n' {
			line++
		}
	}
	return line
}

// maxDiffLines is how many lines of a difference are shown.
const maxDiffLines = 40

// showRendered shows what is not as it would be rendered, with the lines that differ.
func (c *call) showRendered(p *opened, differing []committed) {
	presenter := c.presenter(p, c.out)
	for i, d := range differing {
		if i > 0 {
			fmt.Fprintln(c.out)
		}
		finding := d.finding
		presenter.Findings(source.Findings{finding})
		lines := strings.Split(strings.TrimSuffix(d.diff, "\n"), "\n")
		if d.diff == "" || len(lines) < 2 {
			continue
		}
		lines = lines[2:] // without the names of the files
		if len(lines) > maxDiffLines {
			lines = append(lines[:maxDiffLines], fmt.Sprintf("… and %d lines more", len(lines)-maxDiffLines))
		}
		for _, line := range lines {
			presenter.DiffLine(line)
		}
	}
}
