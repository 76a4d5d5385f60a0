package present

import (
	"fmt"
	"io"
	"regexp"
	"strings"
)

// What Markdown has within lines, as the manual uses it.
var (
	markdownLink  = regexp.MustCompile(`!?\[([^\]]*)\]\(([^)]*)\)`)
	markdownMarks = regexp.MustCompile("`([^`]*)`|\\*\\*([^*]+)\\*\\*")
)

// Manual shows a section of the manual: its title, paragraphs and lists filled to the width, tables with a row for
// each, and code as it is.
func Manual(out io.Writer, title, text string, width int, color bool) {
	p := &Presenter{Out: out, Color: color}
	fmt.Fprintf(out, "%s\n", p.bold(plain(title)))
	lines := strings.Split(strings.TrimSpace(text), "\n")
	for i := 0; i < len(lines); {
		line := lines[i]
		switch {
		case strings.HasPrefix(line, "```"):
			if name := strings.TrimSpace(strings.TrimLeft(line, "`abcdefghijklmnopqrstuvwxyz")); name != "" {
				fmt.Fprintf(out, "  # %s\n", name)
			}
			for i++; i < len(lines) && !strings.HasPrefix(lines[i], "```"); i++ {
				fmt.Fprintf(out, "  %s\n", lines[i])
			}
			i++
		case strings.HasPrefix(line, "    "):
			fmt.Fprintln(out, strings.TrimPrefix(line, "  "))
			i++
		case strings.HasPrefix(line, "|"):
			rows := 0
			for ; i < len(lines) && strings.HasPrefix(lines[i], "|"); i++ {
				if rows++; rows != 2 { // which only says how columns are aligned
					manualRow(out, lines[i], width)
				}
			}
		case strings.TrimSpace(line) == "":
			fmt.Fprintln(out)
			i++
		default:
			var words []string
			bullet := itemMark.FindString(line)
			for first := true; i < len(lines); i, first = i+1, false {
				next := lines[i]
				if !first && (strings.TrimSpace(next) == "" || strings.HasPrefix(next, "|") ||
					strings.HasPrefix(next, "```") ||
					itemMark.MatchString(next)) {
					break
				}
				words = append(words, strings.Fields(plain(strings.TrimPrefix(next, bullet)))...)
				bullet = ""
			}
			mark := itemMark.FindString(line)
			indent := strings.Repeat(" ", len(mark))
			fmt.Fprintf(out, "%s%s\n", mark, Fill(words, len(mark), width, indent))
		}
	}
}

var itemMark = regexp.MustCompile(`^([0-9]+\.|-) +`)

// manualRow shows a row of a table: the first cell, and the others below it.
func manualRow(out io.Writer, line string, width int) {
	cells := strings.Split(strings.Trim(strings.ReplaceAll(line, `\|`, "\x00"), "| "), "|")
	for i, cell := range cells {
		text := strings.ReplaceAll(plain(strings.TrimSpace(cell)), "\x00", "|")
		switch words := strings.Fields(text); {
		case text == "":
		case i == 0:
			fmt.Fprintf(out, "  %s\n", Fill(words, 2, width, "  "))
		default:
			fmt.Fprintf(out, "      %s\n", Fill(words, 6, width, "      "))
		}
	}
}

// plain takes the marks out of a line of Markdown. A link to another page is that page's name.
func plain(line string) string {
	line = markdownLink.ReplaceAllString(line, "$1")
	return markdownMarks.ReplaceAllString(line, "$1$2")
}
