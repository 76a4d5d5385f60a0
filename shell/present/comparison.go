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
	"knothole/core/explain"
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
	if columnsOf(sides+gap+counts) > p.Width {
		gap = "\n  "
	}
	p.printf("%s%s%s\n", p.bold(sides), gap, counts)
	s := &comparing{Presenter: p, c: c, options: o, groups: c.Groups(o.GroupOptions)}
	s.several = len(c.Sides) > 2 || o.Columns && len(c.Sides) > 1
	s.reasons()
	s.measure()
	for i, g := range s.groups {
		// Documents that are on one side only stand below each other.
		if i == 0 || len(g.Rows) > 0 || len(s.groups[i-1].Rows) > 0 {
			p.printf("\n")
		}
		s.group(g)
	}
	s.reordered()
	s.unread()
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
			strings.TrimPrefix(source.Count(r.Places, "place"), fmt.Sprint(r.Places)+" "))
	}
	if rest := reasons[len(most):]; len(rest) > 0 {
		places := 0
		for _, r := range rest {
			places += r.Places
		}
		s.printf("  and %d more, %s\n", len(rest), source.Count(places, "place"))
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
	if n := len(s.c.Sides); s.several {
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
		if s.columns != nil && !(len(f.Cells) == 2 && (f.Kind == compare.Text || f.Kind == compare.Embedded)) {
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

// narrow says that causes stand below what they are of.
func (s *comparing) narrow() bool { return s.Width < wide || s.several }

// title shows the line above the rows of a group.
func (s *comparing) title(g compare.Group) {
	switch {
	case g.Cause != "":
		n := 0
		for _, f := range g.Rows {
			n += f.Places
		}
		s.printf("%s, %s in %s\n", s.bold(s.cyan(Clean(g.Cause))), source.Count(n, "place"),
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
	return "only in " + Clean(strings.Join(on, ", "))
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

// commonPattern returns a pattern that the paths have in common: a folder and an ending where they share them.
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

// pieces returns what is shown of a change on its line, and what stands below.
func (s *comparing) pieces(f compare.Folded, room int) (line, block []piece) {
	var more []piece
	switch {
	case f.Values > 1:
		more = append(more, piece{fmt.Sprintf("   and %d more alike", f.Places-1), s.faint})
	case f.Places > len(f.Documents):
		more = append(more, piece{fmt.Sprintf("   %d places", f.Places), s.faint})
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

func plainText(v value.Value) string {
	if v.Kind() == value.String {
		return Clean(v.Text())
	}
	return Clean(v.Show(40))
}

// both shows the change of a value.
func (s *comparing) both(left, right value.Value, room int) []piece {
	switch {
	case left.IsAbsent():
		return []piece{{"new", s.faint}, {" → ", nil}, {s.one(right, room-6), s.green}}
	case right.IsAbsent():
		return []piece{{s.one(left, room-7), s.red}, {" → ", nil}, {"gone", s.faint}}
	}
	if !s.options.Full {
		left, right = aroundDifference(left, right)
	}
	a, b := left.Show(1<<30), right.Show(1<<30)
	if !s.options.Full {
		// Each has half of the room; what one leaves the other has.
		each := max((room-3)/2, room-3-min(columnsOf(a), columnsOf(b)))
		texts := shortened([]string{a, b}, max(minCell, each))
		a, b = texts[0], texts[1]
	}
	return []piece{{Clean(a), s.red}, {" → ", nil}, {Clean(b), s.green}}
}

// longText is from how many characters on only what is around the difference of two strings is looked at.
const longText = 4000

// aroundDifference returns what is around the place at which two long strings begin to differ.
func aroundDifference(left, right value.Value) (value.Value, value.Value) {
	if left.Kind() != value.String || right.Kind() != value.String ||
		max(len(left.Text()), len(right.Text())) <= longText {
		return left, right
	}
	a, b := left.Text(), right.Text()
	at := 0
	for at < len(a) && at < len(b) && a[at] == b[at] {
		at++
	}
	part := func(text string) string {
		from, to := max(0, at-longText/4), min(len(text), at+longText/4)
		return strings.ToValidUTF8(text[from:to], "")
	}
	return value.StringOf(part(a), 0), value.StringOf(part(b), 0)
}

// one shows a value alone.
func (s *comparing) one(v value.Value, room int) string {
	text := v.Show(1 << 20)
	if title := place.Title(v); title != "" && !s.options.Full {
		text = title
	}
	if !s.options.Full {
		text = shortened([]string{text}, max(minCell, room))[0]
	}
	return Clean(text)
}

// shortened makes texts fit a width each: what they have in common goes first, and never what tells them apart.
func shortened(texts []string, width int) []string {
	if !slices.ContainsFunc(texts, func(text string) bool { return columnsOf(text) > width }) {
		return texts
	}
	runes := make([][]rune, len(texts))
	for i, text := range texts {
		runes[i] = []rune(text)
	}
	all := slices.Clone(texts)
	for i, text := range runes {
		if columnsOf(texts[i]) <= width {
			continue
		}
		start, end := 0, 0 // what it has in common with the one that is most like it
		for _, other := range runes {
			if !slices.Equal(text, other) && common(text, other)+commonEnd(text, other) > start+end {
				start, end = common(text, other), commonEnd(text, other)
			}
		}
		span := shortSpan{start, max(start, len(text)-end)}
		if start+end == 0 {
			span = shortSpan{0, len(text)}
		}
		// As much as fits of what they have in common: what is before tells more than what is behind.
		span = span.with(text, contextBefore, contextBefore)
		for _, wider := range []func(more int) shortSpan{
			func(more int) shortSpan { return span.with(text, more, 0) },
			func(more int) shortSpan { return span.with(text, 0, more) },
		} {
			if more := width - columnsOf(span.show(text)); more > 0 {
				if wide := wider(more); columnsOf(wide.show(text)) <= width {
					span = wide
				}
			}
		}
		all[i] = span.fitted(text, width)
	}
	return all
}

// shortSpan is the part of a text that is shown of it.
type shortSpan struct{ from, to int }

// with returns the part with more before and behind it. What is no wider than the mark for it is not left out.
func (p shortSpan) with(text []rune, before, behind int) shortSpan {
	p.from, p.to = max(0, p.from-before), min(len(text), p.to+behind)
	markBefore, markBehind := shortSpan{1, len(text) - 1}.marks(text)
	if columnsOf(string(text[:p.from])) <= columnsOf(markBefore) {
		p.from = 0
	}
	if columnsOf(string(text[p.to:])) <= columnsOf(markBehind) {
		p.to = len(text)
	}
	return p
}

// marks say that something is left out before and behind; the quotes stay.
func (p shortSpan) marks(text []rune) (before, behind string) {
	if p.from > 0 {
		if before = "…"; text[0] == '"' {
			before = `"…`
		}
	}
	if p.to < len(text) {
		if behind = "…"; text[len(text)-1] == '"' {
			behind += `"`
		}
	}
	return before, behind
}

func (p shortSpan) show(text []rune) string {
	before, behind := p.marks(text)
	return before + string(text[p.from:p.to]) + behind
}

// fitted is what is shown, cut at its end where it is still too wide.
func (p shortSpan) fitted(text []rune, width int) string {
	before, behind := p.marks(text)
	middle, room := text[p.from:p.to], width-columnsOf(before)-columnsOf(behind)
	if columnsOf(string(middle)) > room {
		if behind == "" {
			behind, room = "…", room-1
		}
		middle = middle[:min(len(middle), max(1, room))]
		for len(middle) > 1 && columnsOf(string(middle)) > room {
			middle = middle[:len(middle)-1]
		}
	}
	return before + string(middle) + behind
}

// contextBefore is how much of what texts have in common is shown beside what tells them apart.
const contextBefore = 5

func common(a, b []rune) (n int) {
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}

func commonEnd(a, b []rune) (n int) {
	for n < len(a) && n < len(b) && a[len(a)-1-n] == b[len(b)-1-n] {
		n++
	}
	return n
}

// manyLines is how many lines of a change are shown.
const manyLines = 12

// lines shows the lines of a text that differ, with their numbers, and what each comes from where that is not what the
// whole text does.
func (s *comparing) lines(f compare.Folded) (block []piece) {
	changed := f.Changed
	if changed == nil {
		changed = compare.ChangedLines(value.Shown(f.Left()), value.Shown(f.Right()))
	}
	if len(changed) > manyLines && !s.options.Full {
		rest := len(changed) - manyLines + 1
		changed = changed[:manyLines-1]
		defer func() {
			block = append(block, piece{fmt.Sprintf("and %d lines more: --full shows them", rest), s.faint})
		}()
	}
	whole, widest := s.cause(f.Cause, f.Against), 0
	texts, notes := make([]string, len(changed)), make([]string, len(changed))
	for i, line := range changed {
		sign, side := "-", 0
		if line.Right {
			sign, side = "+", f.Against
		}
		text := fmt.Sprintf("%s %4d  %s", sign, line.Number, visible(line.Text))
		note := s.lineCause(line, side)
		room := s.Width - subIndent - columnsOf(note) - noteGap
		if note == "" || note == whole || room < minNoted {
			texts[i] = s.cut(text)
			continue
		}
		if notes[i] = note; !s.options.Full {
			text = shortened([]string{text}, room)[0]
		}
		texts[i] = text
		if width := columnsOf(text); width <= s.Width/2 {
			widest = max(widest, width)
		}
	}
	for i, line := range changed {
		paint, note := s.red, notes[i]
		if line.Right {
			paint = s.green
		}
		if note == "" {
			block = append(block, piece{texts[i], paint})
			continue
		}
		gap := noteGap + max(0, min(widest-columnsOf(texts[i]),
			s.Width-subIndent-noteGap-columnsOf(texts[i])-columnsOf(note)))
		block = append(block, piece{texts[i], func(text string) string {
			return paint(text) + strings.Repeat(" ", gap) + s.cyan(note)
		}})
	}
	return block
}

// Beside a line stands what it comes from, where so much room is left for the line itself.
const (
	noteGap  = 3
	minNoted = 40
)

// lineCause is what a line of a text comes from.
func (s *comparing) lineCause(line compare.ChangedLine, side int) string {
	var parts []string
	for _, name := range line.Because {
		parts = append(parts, s.because(name))
	}
	if at := s.lineOn(side, line.At); at != "" {
		parts = append(parts, at)
	}
	return strings.Join(parts, ", ")
}

func (s *comparing) cut(text string) string {
	if s.options.Full {
		return text
	}
	return shortened([]string{text}, s.Width-subIndent)[0]
}

func (s *comparing) most(block []piece) []piece {
	if len(block) <= manyLines || s.options.Full {
		return block
	}
	return append(block[:manyLines-1:manyLines-1],
		piece{fmt.Sprintf("and %d lines more: --full shows them", len(block)-manyLines+1), s.faint})
}

// inner shows how the data in a text differs.
func (s *comparing) inner(n *compare.Node) (block []piece) {
	for _, row := range n.Rows() {
		name := Clean(row.Path.String()) + "  "
		pieces, below := s.pieces(compare.Folded{Row: row}, s.Width-subIndent-columnsOf(name))
		var text, painted strings.Builder
		text.WriteString(name)
		painted.WriteString(name)
		for _, x := range pieces {
			text.WriteString(x.text)
			if x.paint != nil {
				x.text = x.paint(x.text)
			}
			painted.WriteString(x.text)
		}
		block = append(block, piece{text.String(), func(string) string { return painted.String() }})
		block = append(block, below...)
	}
	return s.most(block)
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

// causeName is something that a difference is because of, as it is shown, and what it is the name of.
type causeName struct{ text, of string }

// cause says why values differ: what they depend on, and the lines that decided them, of layers or of templates.
func (s *comparing) cause(c explain.Cause, against int) string {
	names, lines := s.causeParts(c, against)
	var texts []string
	for _, name := range names {
		texts = append(texts, name.text)
	}
	if s.c.Sources != nil && len(names) > 0 {
		return "changed at " + strings.Join(texts, ", ")
	}
	if lines != "" {
		texts = append(texts, lines)
	}
	return strings.Join(texts, ", ")
}

// causeParts returns what values depend on that differ, and the lines that decided them.
func (s *comparing) causeParts(c explain.Cause, against int) (names []causeName, lines string) {
	parts := map[string]int{}
	for _, r := range c.Because {
		parts[compare.Input(r.Name)]++
	}
	for _, r := range c.Because {
		input := compare.Input(r.Name)
		switch n := parts[input]; {
		case n <= fewParts || s.options.Full:
			names = append(names, causeName{s.because(r.Name), r.Name})
		case n > 0:
			names = append(names, causeName{fmt.Sprintf("%s (%d parts)", Clean(input), n), input})
			parts[input] = -1 << 20
		}
	}
	if s.c.Sources != nil && len(c.Because) > 0 {
		return names, "" // the lines are what it is because of
	}
	left, right := s.lineOn(0, c.Left), s.lineOn(against, c.Right)
	if (left == right || left == "" || right == "") && len(c.Because) == 1 &&
		c.Because[0].Name != explain.EnvironmentName {
		// One line makes both, or the one that is there: what it depends on makes the difference.
		left, right = s.lineOn(0, c.Because[0].Left), s.lineOn(against, c.Because[0].Right)
	}
	return names, fromTo(left, right)
}

// because is what a difference is because of, as it is shown: of revisions it is a line of a file.
func (s *comparing) because(name string) string {
	if s.c.Sources != nil {
		return s.file(name)
	}
	return Clean(name)
}

// lineOn is the line of a place on a side.
func (s *comparing) lineOn(side int, at source.Pos) string {
	if s.c.Sources == nil {
		return s.line(at)
	}
	on := *s.Presenter
	on.Sources = s.c.Sources[side]
	return on.line(at)
}

// fewParts is how many parts of one input are named for one place.
const fewParts = 3

// fromTo joins two places; the file is not repeated.
func fromTo(left, right string) string {
	switch {
	case left == "" || left == right:
		return right
	case right == "":
		return left
	}
	if file, _, ok := strings.Cut(left, ":"); ok && strings.HasPrefix(right, file+":") {
		return left + " → " + strings.TrimPrefix(right, file)
	}
	return left + " → " + right
}
