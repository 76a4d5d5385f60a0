package present

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"knothole/core/source"
)

// excerptWidth is how many columns of a source line are shown at most.
const excerptWidth = 110

// gutter begins the lines below a line of source.
const gutter = "      | "

// Findings shows findings: the GNU form for the first line, so that editors and terminals can jump to it; then the
// source; then help. The same finding is shown once.
func (p *Presenter) Findings(findings source.Findings) {
	for i, f := range source.ReportOf(findings...).Findings(p.Sources) {
		if i > 0 {
			p.printf("\n")
		}
		p.finding(f)
	}
}

func (p *Presenter) finding(f source.Finding) {
	severity := p.red(f.Severity.String())
	if f.Severity == source.Warning {
		severity = p.yellow(f.Severity.String())
	}
	where := ""
	if len(f.Environments) > 0 {
		where = " (in " + p.environments(f.Environments) + ")"
	}
	location := p.location(f.Span.Start)
	code := "[" + codeText(f) + "]"
	whole := strings.ReplaceAll(code, " ", "\u00a0") // which is not broken between words
	text := p.wrapped(Clean(f.Message)+where+" "+whole, columnsOf(location)+len(f.Severity.String())+4)
	text = strings.TrimSuffix(text, whole)
	p.printf("%s: %s: %s%s\n", p.bold(location), severity, text, p.faint(code))
	p.findingBody(f)
}

// codeText is by what a finding is looked up: its code, or the rule that is broken.
func codeText(f source.Finding) string {
	if f.Broken != nil {
		return "rule " + Clean(f.Broken.Rule)
	}
	return string(f.Code)
}

// findingBody shows what helps with a finding: its source, and other places.
func (p *Presenter) findingBody(f source.Finding) {
	if f.Span.IsValid() {
		p.excerpt(f.Span, f.Help)
	} else if f.Help != "" {
		p.printf("  %s\n", Clean(f.Help))
	}
	for _, r := range f.Related {
		if !r.Span.IsValid() {
			p.printf("  %s\n", Clean(r.Text))
			continue
		}
		location := p.location(r.Span.Start)
		p.printf("  see %s: %s\n", location, p.wrapped(Clean(r.Text), columnsOf(location)+len("  see : ")))
	}
}

// wrapped breaks a text that begins in a column between words, so that it fits a terminal. Elsewhere a finding is one
// line, for programs that read it.
func (p *Presenter) wrapped(text string, column int) string {
	if !p.Fit || p.Width < 40 {
		return text
	}
	return Fill(strings.Split(text, " "), column, p.Width, "    ")
}

// Fill puts words after each other so that no line is wider than it may be. The first line begins in a column, the
// others with an indent.
func Fill(words []string, column, width int, indent string) string {
	var b strings.Builder
	for i, word := range words {
		n := columnsOf(word)
		switch {
		case i == 0:
		case column+1+n > width:
			b.WriteString("\n" + indent)
			column = len(indent)
		default:
			b.WriteByte(' ')
			column++
		}
		b.WriteString(word)
		column += n
	}
	return b.String()
}

// environments names the environments of a finding.
func (p *Presenter) environments(names []string) string {
	if len(names) > 1 && len(names) == p.All {
		return "all environments"
	}
	if len(names) > columnSides {
		return fmt.Sprintf("%d environments: %s", len(names), Names(names))
	}
	return joined(names)
}

func joined(names []string) string { return strings.Join(names, ", ") }

// excerpt shows the line of a span with the span marked and the help after the mark.
func (p *Presenter) excerpt(span source.Span, help string) {
	l := p.Sources.Locate(span.Start)
	if l.File == nil {
		return
	}
	if l.File.Hidden(l.Line) {
		p.printf("%s | %s\n", p.faint(fmt.Sprintf("%5d", l.Line)),
			p.faint("this line may hold a secret and is not shown"))
		if help != "" {
			p.printf("      | %s\n", p.cyan(Clean(help)))
		}
		return
	}
	offset := l.File.Offset(span.Start)
	text, before := around(l.File.Line(l.Line), offset-l.File.LineStart(l.Line))
	line := []rune(visible(text))
	start := utf8.RuneCountInString(text[:before])
	width := 1
	end := l.File.TokenEnd(offset)
	if span.End.IsValid() {
		end = l.File.Offset(span.End)
	}
	if end > offset && end <= len(l.File.Text) {
		text := l.File.Text[offset:end]
		if newline := strings.IndexByte(text, '\n'); newline >= 0 {
			text = strings.TrimRight(text[:newline], "\r ")
		}
		width = max(1, len([]rune(text)))
	}
	// A very long line is shown around the place.
	most := excerptWidth
	if p.Fit {
		most = max(20, min(most, p.Width-len(gutter)-2))
	}
	if columnsOf(string(line)) > most {
		from, to := start, start
		columns := func(from, to int) int { return columnsOf(string(line[from:to])) }
		room := most - 2 // what is cut off at both ends is marked
		if columns(0, min(len(line), start+width)) <= room {
			from = 0
		}
		for from > 0 && columns(from-1, start) <= room/3 {
			from--
		}
		for to < len(line) && columns(from, to+1) <= room {
			to++
		}
		for from > 0 && columns(from-1, to) <= room {
			from--
		}
		cut := to < len(line)
		line = append([]rune{}, line[from:to]...)
		if cut {
			line = append(line, '…')
		}
		start -= from
		if from > 0 {
			line = append([]rune("…"), line...)
			start++
		}
	}
	width = min(width, max(1, len(line)-start))
	// Some characters are two columns wide.
	wide := max(1, columnsOf(string(line[min(start, len(line)):min(start+width, len(line))])))
	start, width = columnsOf(string(line[:min(start, len(line))])), wide
	number := fmt.Sprintf("%5d", l.Line)
	p.printf("%s | %s\n", p.faint(number), string(line))
	mark := p.red(strings.Repeat("^", width))
	below := ""
	if help != "" {
		// Help that does not fit after the mark is below it, on a terminal.
		if text := Clean(help); p.Fit && p.Width >= 40 && len(gutter)+start+width+1+columnsOf(text) > p.Width {
			for _, line := range strings.Split(Fill(strings.Fields(text), 0, p.Width-len(gutter), ""), "\n") {
				below += gutter + p.cyan(line) + "\n"
			}
		} else {
			mark += " " + p.cyan(text)
		}
	}
	p.printf("%s%s%s\n%s", gutter, strings.Repeat(" ", start), mark, below)
}

// around cuts a very long line to what may be shown around an offset in it, so that many findings on one line do not
// each go through all of it. It returns the rest, and the offset in that.
func around(line string, offset int) (cut string, inside int) {
	const most = 8 * excerptWidth // four bytes for a character, on both sides
	offset = min(offset, len(line))
	from, to := max(0, offset-most), min(len(line), offset+most)
	for from > 0 && !utf8.RuneStart(line[from]) {
		from--
	}
	for to < len(line) && !utf8.RuneStart(line[to]) {
		to++
	}
	return line[from:to], offset - from
}

// Summary returns the last line of a run, such as "3 errors, 1 warning in 4 environments".
func Summary(findings source.Findings, n int, of string) string {
	errors, warnings := findings.Count()
	return fmt.Sprintf("%s, %s in %s", source.Count(errors, "error"), source.Count(warnings, "warning"),
		source.Count(n, of))
}
