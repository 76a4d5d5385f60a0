package present

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/rivo/uniseg"

	"knothole/core/compare"
	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// ComparisonOptions say how a comparison is shown.
type ComparisonOptions struct {
	compare.GroupOptions
	Columns bool // two sides are beside each other, as more are
}

// Comparison shows what differs: first because of what, then the differing places, those of many documents together.
// Of two sides each place is a line with the change, of more it is one with a column for each side.
func (p *Presenter) Comparison(c *compare.Comparison, o ComparisonOptions) {
	arrow := " → "
	if len(c.Sides) > 2 {
		arrow = ", "
	}
	sides, counts, gap := Clean(strings.Join(c.Sides, arrow)), comparisonCounts(c), "   "
	if len(c.Sides) > columnSides {
		sides = fmt.Sprintf("%d sides: %s", len(c.Sides), namesOf(c.Sides, toldNames))
	}
	if columnsOf(sides+gap+counts) > p.Width {
		gap = "\n  "
	}
	p.printf("%s%s%s\n", p.bold(sides), gap, counts)
	s := &comparing{Presenter: p, c: c, options: o, groups: c.Groups(o.GroupOptions)}
	s.several = len(c.Sides) > 2 || o.Columns && len(c.Sides) > 1
	s.reasons()
	s.measure()
	left := mostRows
	for i, g := range s.groups {
		if left -= max(1, len(g.Rows)); left < 0 && i > 0 && !o.Full {
			s.rest(s.groups[i:])
			break
		}
		// Documents that are on one side only are below each other.
		if i == 0 || len(g.Rows) > 0 || len(s.groups[i-1].Rows) > 0 {
			p.printf("\n")
		}
		s.group(g)
	}
	s.reordered()
	s.unread()
}

// mostRows is how many rows are shown, unless everything is asked for. A group is shown as a whole, but for one that
// has more than that alone.
const mostRows = 300

// rest says how much of a comparison is not shown.
func (s *comparing) rest(groups []compare.Group) {
	places, documents := 0, map[string]bool{}
	for _, g := range groups {
		for _, f := range g.Rows {
			places += f.Places
		}
		for _, d := range g.Documents {
			documents[d.Path] = true
		}
	}
	s.printf("\nand %s more in %s: --full shows all, --only some\n", source.Count(places, "path"),
		source.Count(len(documents), "document"))
}

// reordered names the documents with the same data in another order: they are written otherwise, and do not differ.
func (s *comparing) reordered() {
	if paths := s.c.Reordered(); len(paths) > 0 {
		const head = "same data, other order of keys: "
		for i, path := range paths {
			paths[i] = Clean(path)
		}
		s.printf("\n%s%s\n", head, s.list(paths, s.Width-len(head)))
	}
}

// fewUnread is how many places of secrets are listed at most.
const fewUnread = 10

// unread lists the places that were not compared, and whether what they hold comes from the same source.
func (s *comparing) unread() {
	var rows [][]cell
	for _, d := range s.c.Documents {
		for _, u := range d.Unread {
			text := ""
			switch {
			case u.Differs():
				text = Clean(strings.Join(u.From, " → "))
				if len(s.c.Sides) > 2 {
					text = "from several sources"
				}
			case !slices.Contains(u.From, ""):
				text = "from one source"
			}
			rows = append(rows, []cell{{text: "  " + Clean(d.Path)}, {text: Clean(u.Path.String())},
				{text: text, paint: s.faint}})
		}
	}
	if len(rows) == 0 {
		return
	}
	s.printf("\nnot compared, since secrets are not read here\n")
	most := len(rows)
	if most > fewUnread && !s.options.Full {
		most = fewUnread
	}
	s.table(rows[:most], 1, mostPath)
	if most < len(rows) {
		s.printf("  and %d more; --full lists them\n", len(rows)-most)
	}
}

// comparing is a comparison that is shown.
type comparing struct {
	*Presenter
	c       *compare.Comparison
	options ComparisonOptions
	groups  []compare.Group
	path    int   // the width of the column of paths
	several bool  // each side is a column
	columns []int // the widths of those of the sides, for three and more
	shown   bool  // the heads of the columns are there
}

// Widths of what is shown. Beyond wide there is room for causes at the right.
const (
	wide      = 130
	rowIndent = 2
	subIndent = 6
)

// Shares of the width, in percent: how wide the column of paths is at most, and where causes begin at the right.
const (
	mostPath     = 45
	mostPathWide = 34
	causesFrom   = 60
)

func comparisonCounts(c *compare.Comparison) string {
	if len(c.Documents) == 0 {
		return "no documents"
	}
	only := func(at int) string {
		if len(c.Sides) != 2 {
			return "only in some"
		}
		return "only in " + c.Sides[at]
	}
	var parts []string
	for _, s := range []struct {
		status compare.Status
		text   string
	}{{compare.Same, "same"}, {compare.Differs, "differ"}, {compare.OnlyLeft, only(0)}, {compare.OnlyRight, only(1)},
		{compare.OnlySome, only(0)}, {compare.SameUnread, "compared in part"}} {
		if n := c.Count(s.status); n > 0 {
			if s.status == compare.Differs && n == 1 {
				s.text = "differs"
			}
			parts = append(parts, fmt.Sprintf("%d %s", n, s.text))
		}
	}
	return source.Count(len(c.Documents), "document") + ": " + strings.Join(parts, ", ")
}

// manyReasons is how many causes are counted at most.
const manyReasons = 10

// reasons shows because of what how many places differ.
func (s *comparing) reasons() {
	reasons := s.c.Reasons()
	if len(reasons) == 0 {
		return
	}
	s.printf("\nbecause of\n")
	most := reasons[:min(len(reasons), manyReasons)]
	if len(reasons) > manyReasons {
		most = most[:manyReasons-1]
	}
	name, number := 0, 0
	texts := make([]string, len(most))
	for i, r := range most {
		texts[i] = s.because(r.Name) + parts(r)
		name, number = max(name, columnsOf(texts[i])), max(number, len(fmt.Sprint(r.Places)))
	}
	for i, r := range most {
		text := texts[i]
		s.printf("  %s%s  %*d %s\n", s.cyan(text), strings.Repeat(" ", name-columnsOf(text)), number, r.Places,
			strings.TrimPrefix(source.Count(r.Places, "path"), fmt.Sprint(r.Places)+" "))
	}
	if rest := reasons[len(most):]; len(rest) > 0 {
		places := 0
		for _, r := range rest {
			places += r.Places
		}
		s.printf("  and %d more, %s\n", len(rest), source.Count(places, "path"))
	}
}

// parts says how many parts of an input are counted together.
func parts(r compare.ReasonCount) string {
	if r.Parts == 0 {
		return ""
	}
	return fmt.Sprintf(" (%d parts)", r.Parts)
}

// columnsOf is how many columns of a terminal a text takes.
func columnsOf(text string) int {
	for i := range len(text) {
		if text[i] >= utf8.RuneSelf {
			return uniseg.StringWidth(text)
		}
	}
	return len(text)
}

// measure finds out how wide the columns are.
func (s *comparing) measure() {
	most := s.Width * mostPath / 100
	if !s.narrow() {
		most = s.Width * mostPathWide / 100
	}
	for _, g := range s.groups {
		for _, f := range g.Rows {
			if width := columnsOf(rowName(f)); width <= most {
				s.path = max(s.path, width)
			}
		}
	}
	if n := len(s.c.Sides); s.several && n <= columnSides {
		s.path = min(s.path, max(20, s.Width-n*(minCell+columnGap)-rowIndent))
		each := (s.Width - rowIndent - s.path) / n
		for range n {
			s.columns = append(s.columns, max(minCell, each-columnGap))
		}
	}
}

// minCell is how narrow the column of a side is at most.
const minCell = 12

// rowName is the path of a row, as it is shown.
func rowName(f compare.Folded) string {
	if f.Pattern == "" {
		return "(the whole document)"
	}
	return Clean(f.Pattern)
}

func (s *comparing) group(g compare.Group) {
	s.title(g)
	for i, f := range g.Rows {
		if i == mostRows && !s.options.Full {
			s.indented(fmt.Sprintf("and %d more: --full shows all", len(g.Rows)-i), s.faint)
			break
		}
		if len(s.c.Sides) > columnSides {
			s.manyCells(f)
		} else if s.columns != nil && !(len(f.Cells) == 2 && (f.Kind == compare.Text || f.Kind == compare.Embedded)) {
			s.cells(f)
		} else {
			s.change(f)
		}
		// Rows that follow each other and have one cause tell it once.
		if cause := s.cause(f.Cause, f.Against); cause != "" && g.Cause == "" && s.narrow() &&
			(i == len(g.Rows)-1 || s.cause(g.Rows[i+1].Cause, g.Rows[i+1].Against) != cause) {
			s.indented(cause, s.cyan)
		}
	}
}

// narrow says that causes are below what they are of.
func (s *comparing) narrow() bool { return s.Width < wide || s.several }

// title shows the line above the rows of a group.
func (s *comparing) title(g compare.Group) {
	switch {
	case g.Cause != "":
		n := 0
		for _, f := range g.Rows {
			n += f.Places
		}
		s.printf("%s, %s in %s\n", s.bold(s.cyan(Clean(g.Cause))), source.Count(n, "path"),
			source.Count(len(g.Documents), "document"))
		return
	case len(g.Documents) > 1:
		pattern := commonPattern(g.Documents)
		head, only := fmt.Sprintf("%s, %d documents: ", Clean(pattern), len(g.Documents)), ""
		if len(g.Rows) == 0 {
			only = s.only(g.Documents[0])
			head = fmt.Sprintf("%s, %d documents %s: ", Clean(pattern), len(g.Documents), only)
		}
		s.printf("%s%s\n", s.bold(Clean(pattern)), strings.TrimPrefix(head, Clean(pattern))+
			s.list(documentNames(g.Documents, pattern), s.Width-columnsOf(head)))
		if cause := s.cause(g.Documents[0].Cause, g.Documents[0].Against); only != "" && cause != "" {
			s.indented(cause, s.cyan)
		}
		for i, name := range documentNames(g.Documents, pattern) {
			if only != "" && s.options.Full {
				s.printf("    %s\n", s.bold(name))
				s.content(g.Documents[i])
			}
		}
		return
	}
	d := g.Documents[0]
	s.printf("%s", s.bold(Clean(d.Path)))
	if d.Title != "" {
		s.printf(" · %s", Clean(d.Title))
	}
	if only := s.only(d); only != "" {
		s.printf("   %s\n", s.yellow(only))
		if cause := s.cause(d.Cause, d.Against); cause != "" {
			s.indented(cause, s.cyan)
		}
		s.content(d)
		return
	}
	s.printf("\n")
}

// content shows what is in a document that is on some sides only, when everything is asked for: that of the first.
func (s *comparing) content(d *compare.Document) {
	if !s.options.Full || d.Root == nil {
		return
	}
	side := slices.Index(d.On, true)
	v, paint := value.Shown(d.Root.Cells[side]), s.green
	if side == 0 {
		paint = s.red
	}
	text, err := data.Write(v, data.YAML)
	if v.Kind() == value.String {
		text, err = []byte(v.Text()), nil
	}
	if err != nil {
		return
	}
	for line := range strings.Lines(string(text)) {
		s.printf("%s%s\n", strings.Repeat(" ", subIndent), paint(visible(strings.TrimSuffix(line, "\n"))))
	}
}

// only says on which sides a document is, when it is not on all.
func (s *comparing) only(d *compare.Document) string {
	if d.Alike() || d.Status == compare.Differs {
		return ""
	}
	var on []string
	for i, is := range d.On {
		if is {
			on = append(on, s.c.Sides[i])
		}
	}
	if all := len(s.c.Sides); all > columnSides && len(on) > all/2 {
		var off []string
		for i, is := range d.On {
			if !is {
				off = append(off, s.c.Sides[i])
			}
		}
		return fmt.Sprintf("in %d of %d, not in %s", len(on), all, namesOf(off, toldNames))
	}
	return "only in " + namesOf(on, columnSides)
}

// columnSides is how many sides have columns; of more, each row has its values with how many sides have each.
const columnSides = 12

// toldNames is how many of many names are told.
const toldNames = 4

// Names lists the first of some names, and how many more there are.
func Names(names []string) string { return namesOf(names, toldNames) }

// namesOf lists names, the first of them where they are more than so many.
func namesOf(names []string, most int) string {
	more := ""
	if len(names) > most {
		more = fmt.Sprintf(" and %d more", len(names)-toldNames)
		names = names[:toldNames]
	}
	return Clean(strings.Join(names, ", ")) + more
}

// manyCells shows one row of many sides: each value, with the sides that have it, the most common first.
func (s *comparing) manyCells(f compare.Folded) {
	s.printf("%s%s\n", strings.Repeat(" ", rowIndent), rowName(f))
	var texts []string
	sides := map[string][]string{}
	for i, v := range f.Cells {
		text := "·"
		if !v.IsAbsent() {
			text = s.one(v, s.Width/2)
		}
		if sides[text] == nil {
			texts = append(texts, text)
		}
		sides[text] = append(sides[text], s.c.Sides[i])
	}
	slices.SortStableFunc(texts, func(a, b string) int { return len(sides[b]) - len(sides[a]) })
	shown := texts
	if len(texts) > toldNames {
		shown = texts[:toldNames-1]
	}
	for _, text := range shown {
		s.printf("%s%s %s\n", strings.Repeat(" ", subIndent), s.green(text),
			s.faint(fmt.Sprintf("in %d: %s", len(sides[text]), namesOf(sides[text], toldNames))))
	}
	if n := len(texts) - len(shown); n > 0 {
		s.printf("%s%s\n", strings.Repeat(" ", subIndent), s.faint("and "+source.Count(n, "other value")))
	}
	if f.Values > 1 {
		s.indented(fmt.Sprintf("and %d more alike", f.Places-1), s.faint)
	}
}

// documentNames are the names of documents without what a pattern says of all.
func documentNames(documents []*compare.Document, pattern string) []string {
	var names []string
	for _, d := range documents {
		name := d.Path
		if folder := path.Dir(pattern); folder != "." {
			name = strings.TrimPrefix(name, folder+"/")
		}
		if ending := path.Ext(pattern); ending != "" {
			name = strings.TrimSuffix(name, ending)
		}
		switch {
		case d.Stream && pattern == d.Path:
			name = d.Title
		case d.Stream:
			name += " " + d.Title
		}
		names = append(names, Clean(name))
	}
	return names
}

// list joins names as far as there is room.
func (s *comparing) list(names []string, room int) string {
	if s.options.Full {
		return strings.Join(names, ", ")
	}
	const more = ", …"
	shown, width := 0, 0 // as many as leave room to say that there are more
	for i, name := range names {
		if width += columnsOf(name); width > room {
			return strings.Join(names[:max(1, shown)], ", ") + more
		}
		if width += len(", "); width-len(", ")+columnsOf(more) <= room {
			shown = i + 1
		}
	}
	return strings.Join(names, ", ")
}

// commonPattern returns a pattern that the paths have in common: a directory and an ending where they share them.
func commonPattern(documents []*compare.Document) string {
	if !slices.ContainsFunc(documents, func(d *compare.Document) bool { return d.Path != documents[0].Path }) {
		return documents[0].Path
	}
	folder, ending := path.Dir(documents[0].Path), path.Ext(documents[0].Path)
	for _, d := range documents[1:] {
		for folder != "." && d.Path != folder && !strings.HasPrefix(d.Path, folder+"/") {
			folder = path.Dir(folder)
		}
		if path.Ext(d.Path) != ending {
			ending = ""
		}
	}
	name := "*" + ending
	for _, d := range documents {
		if path.Dir(d.Path) != folder {
			return path.Join(folder, "**", name)
		}
	}
	return path.Join(folder, name)
}

// piece is a part of a line, and its colour.
type piece struct {
	text  string
	paint func(string) string
}

// change shows one row of two sides.
func (s *comparing) change(f compare.Folded) {
	name := rowName(f)
	cause, end := s.cause(f.Cause, f.Against), s.Width
	if !s.narrow() && cause != "" {
		end = s.Width*causesFrom/100 - 3
	}
	at := rowIndent + columnsOf(name)
	s.printf("%s%s", strings.Repeat(" ", rowIndent), name)
	begin := rowIndent + s.path + 3
	if at+3 > begin {
		s.printf("\n")
		begin, at = subIndent, 0
	}
	room := end - begin
	pieces, block := s.pieces(f, room)
	s.printf("%s", strings.Repeat(" ", begin-at))
	at = begin
	for _, x := range pieces {
		at += columnsOf(x.text)
		if x.paint == nil {
			s.printf("%s", x.text)
		} else {
			s.printf("%s", x.paint(x.text))
		}
	}
	if !s.narrow() && cause != "" {
		if gap := end + 3 - at; gap >= 3 && columnsOf(cause) <= s.Width-end-3 {
			s.printf("%s%s", strings.Repeat(" ", gap), s.cyan(cause))
			cause = ""
		}
	}
	s.printf("\n")
	for _, line := range block {
		s.printf("%s%s\n", strings.Repeat(" ", subIndent), line.paint(line.text))
	}
	if !s.narrow() && cause != "" {
		s.indented(cause, s.cyan)
	}
	if s.options.ByCause {
		s.indented("in "+s.list(documentNames(f.Documents, "."), s.Width-subIndent-3), s.faint)
	}
}

// pieces returns what is shown of a change on its line, and what is below.
func (s *comparing) pieces(f compare.Folded, room int) (line, block []piece) {
	var more []piece
	switch {
	case f.Values > 1:
		more = append(more, piece{fmt.Sprintf("   and %d more alike", f.Places-1), s.faint})
	case f.Places > len(f.Documents):
		more = append(more, piece{fmt.Sprintf("   %d paths", f.Places), s.faint})
	}
	for _, x := range more {
		room -= columnsOf(x.text)
	}
	left, right := value.Shown(f.Left()), value.Shown(f.Right())
	switch f.Kind {
	case compare.Moved:
		from, to := f.Node.At[0], f.Node.At[1]
		text := fmt.Sprintf("moved %d → %d", from, to)
		if from == to {
			text = "moved"
		}
		line = []piece{{text, s.yellow}}
		if f.Node.Keys == nil {
			line = append(line, piece{"  " + s.one(right, room-columnsOf(text)-2), nil})
		}
	case compare.Renamed:
		line = []piece{{"renamed ", s.yellow}, {plainText(left), s.red}, {" → ", nil}, {plainText(right), s.green}}
	case compare.Order:
		line = []piece{{"another order ", s.yellow}}
		line = append(line, s.both(left, right, room-14)...)
	case compare.Text:
		line = []piece{{"text of several lines", s.yellow}}
		block = s.lines(f)
	case compare.Embedded:
		line = []piece{{f.Node.Format + " in a string", s.yellow}}
		block = s.inner(f.Node.Inner)
	default:
		line = s.both(left, right, room)
	}
	return append(line, more...), block
}

// cells shows one row of three sides or more.
func (s *comparing) cells(f compare.Folded) {
	if !s.shown {
		s.shown = true
		s.printf("%s", strings.Repeat(" ", rowIndent+s.path))
		for i, name := range s.c.Sides {
			text := shortened([]string{Clean(name)}, s.columns[i])[0]
			s.printf("%s%s", strings.Repeat(" ", columnGap), s.bold(text))
			if i < len(s.c.Sides)-1 {
				s.printf("%s", strings.Repeat(" ", s.columns[i]-columnsOf(text)))
			}
		}
		s.printf("\n")
	}
	name := rowName(f)
	s.printf("%s%s", strings.Repeat(" ", rowIndent), name)
	gap := s.path - columnsOf(name)
	if gap < 0 {
		s.printf("\n")
		gap = rowIndent + s.path
	}
	s.printf("%s", strings.Repeat(" ", gap))
	texts := make([]string, len(f.Cells))
	for i, v := range f.Cells {
		switch {
		case v.IsAbsent():
			texts[i] = "·"
		case place.Title(v) != "":
			texts[i] = Clean(place.Title(v))
		case f.Node.Kids != nil && v.Kind() == value.Record: // what differs in it follows
			texts[i] = "{ … }"
		case f.Node.Kids != nil && v.Kind() == value.List:
			texts[i] = "[ … ]"
		default:
			texts[i] = Clean(value.Shown(v).Show(1 << 20))
		}
	}
	var there []string
	for _, text := range texts {
		if text != "·" {
			there = append(there, text)
		}
	}
	there = shortened(there, slices.Min(s.columns))
	for i, text := range texts {
		paint := s.green
		switch {
		case text == "·":
			paint = s.faint
		case text == texts[0]:
			text, there = there[0], there[1:]
			paint = func(text string) string { return text }
			if i > 0 {
				paint = s.faint
			}
		default:
			text, there = there[0], there[1:]
		}
		s.printf("%s%s", strings.Repeat(" ", columnGap), paint(text))
		if i < len(texts)-1 {
			s.printf("%s", strings.Repeat(" ", max(0, s.columns[i]-columnsOf(text))))
		}
	}
	s.printf("\n")
	if f.Values > 1 {
		s.indented(fmt.Sprintf("and %d more alike", f.Places-1), s.faint)
	}
}

// indented shows a text below a row, broken at its commas where it is too long.
func (s *comparing) indented(text string, paint func(string) string) {
	line := ""
	flush := func() {
		if line != "" {
			s.printf("%s%s\n", strings.Repeat(" ", subIndent), paint(line))
		}
	}
	for i, part := range strings.SplitAfter(text, ", ") {
		if i > 0 && columnsOf(line+strings.TrimSuffix(part, " ")) > s.Width-subIndent {
			line = strings.TrimSuffix(line, " ")
			flush()
			line = ""
		}
		line += part
	}
	flush()
}
