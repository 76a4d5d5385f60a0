package present

import (
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"knothole/core/compare"
	"knothole/core/explain"
	"knothole/core/project"
	"knothole/core/rule"
	"knothole/core/source"
	"knothole/core/value"
)

// Page is what a page of HTML shows; what is nil is left out.
type Page struct {
	Title  string
	Footer string
	// Environments are all of the project, abstract ones included.
	Environments []*project.Environment
	Comparison   *compare.Comparison
	NotCompared  []string // what is left out of the comparison, and why
	Findings     source.Findings
	Unchecked    []source.Pos // conditions that were not tested
	Rules        *rule.Result // what came of rules and links
	Inputs       *Inputs      // of the same environments as the comparison
}

//go:embed page/page.html
var pageTemplate string

//go:embed page/page.css
var pageStyle string

//go:embed page/page.js
var pageScript string

// pagePolicy lets a page hold what it is made of, and fetch nothing: whatever is in the data runs nothing.
var pagePolicy = fmt.Sprintf("default-src 'none'; img-src data:; style-src '%s'; script-src '%s'; base-uri 'none'; "+
	"form-action 'none'", hashOf(pageStyle), hashOf(pageScript))

// hashOf is the hash by which a policy knows what is written in a page (CSP level 3, section 2.3.1).
func hashOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "sha256-" + base64.StdEncoding.EncodeToString(sum[:])
}

// What a page holds at most, so that a browser can show it; what is left out is counted.
const (
	mostPageRows  = 8000
	openPageRows  = 150  // what is behind these begins closed
	mostCellText  = 160  // what is longer opens
	mostWholeText = 8000 // of one value
	mostCellLines = 40
	manySides     = 4  // fit beside each other
	manyNames     = 30 // of documents; of more the first few are named
	fewNames      = 8
	manyDocuments = 40 // are below what differs
)

// The form of a page, for its template.
type (
	pageView struct {
		Title, Policy, Footer string
		Style                 template.CSS
		Script                template.JS
		Facts                 []pageFact
		Sides                 []string
		Tree                  []*pageEnvironment
		Findings              []pageFinding
		NotCompared           []string
		Unchecked             []string
		Reasons               []pageReason
		Documents             []pageDocument
		DocumentsFirst        bool // they say more than whether two are the same
		Compared, InPart      bool
		Groups                []pageGroup
		Wide                  string // the class of tables with many sides
		Left                  string
		Unread                []pageUnread
		Inputs                []pageInput
		Rules                 []pageRule
		Links                 string
		Exemptions            []pageExemption
	}
	pageFact struct {
		Section, Text string
		Number        int
	}
	pageEnvironment struct {
		Name               string
		Abstract, Compared bool
		Tags, Layers       []string
		Extended           []*pageEnvironment
	}
	pageFinding struct{ Severity, Message, Code, Location, Environments, Excerpt string }
	pageRule    struct {
		Name, Reason, Looks, Seen, Found, Class, Location string
		Exempt                                            int
	}
	pageExemption struct{ Of, Reason, Until, Class string }
	pageReason    struct {
		Index, Places int
		Name          string
	}
	pageDocument struct {
		Path, Title, Link, Says string
		Cells                   []pageCell
	}
	pageGroup struct {
		ID, Title, Note, Classes string
		Documents                []pageName
		First                    string // of many documents, where the others are folded
		Open                     bool
		Cause                    *pageCause
		Rows                     []pageRow
	}
	pageName  struct{ ID, Name string }
	pageCause struct {
		On, Lines, Reasons string
		Names              []pageLink
	}
	pageLink struct{ Name, Link string }
	pageRow  struct {
		Place, Note, Classes string
		Cells                []pageCell
		Cause                pageCause
	}
	pageCell struct {
		Class, Note, Text, Whole, From string
		Lines                          []pageLine
	}
	pageLine   struct{ Mark, Text, From string }
	pageUnread struct{ Document, Place, From string }
	pageInput  struct {
		ID, Name, Type, Default, Location string
		About                             []string
		Cells                             []pageCell
	}
)

var pageForm = template.Must(template.New("page").Funcs(template.FuncMap{"soft": soft}).Parse(pageTemplate))

// soft lets a browser break a path or a value after what parts it, before it breaks it anywhere.
func soft(text string) template.HTML {
	var b strings.Builder
	for i, r := range text {
		b.WriteString(template.HTMLEscapeString(string(r)))
		if strings.ContainsRune("./,;=&", r) && i > 0 {
			b.WriteString("<wbr>")
		}
	}
	return template.HTML(b.String())
}

// pageMark is what a page begins with, by which it is known.
const pageMark = "<!doctype html>\n<!-- a page of knothole -->\n"

// IsPage reports whether a text is a page that was written before.
func IsPage(text []byte) bool { return strings.HasPrefix(string(text), pageMark) }

// Page writes a page of HTML that needs nothing but itself. Paths are those in the project: a page is read elsewhere
// than where it is made.
func (p *Presenter) Page(page *Page, o ComparisonOptions) error {
	o.Full = true
	here := *p
	here.Prefix = ""
	p = &here
	v := &pageView{Title: Clean(page.Title), Policy: pagePolicy, Footer: page.Footer,
		Style: template.CSS(pageStyle), Script: template.JS(pageScript)}
	m := &pageMaking{comparing: &comparing{Presenter: p, c: page.Comparison, options: o}, view: v,
		inputs: map[string]string{}}
	if page.Inputs != nil {
		for _, e := range page.Inputs.Runs {
			v.Sides = append(v.Sides, e.Name)
		}
		m.addInputs(page.Inputs)
	}
	m.addEnvironments(page)
	m.addFindings(page)
	for _, text := range page.NotCompared {
		v.NotCompared = append(v.NotCompared, Clean(text))
	}
	for _, at := range page.Unchecked {
		v.Unchecked = append(v.Unchecked, p.line(at))
	}
	if page.Comparison != nil {
		m.addComparison(page.Comparison)
	}
	m.addRules(page.Rules)
	if page.Inputs != nil {
		m.fact("inputs", len(v.Inputs), "input")
	}
	if _, err := io.WriteString(p.Out, pageMark); err != nil {
		return err
	}
	return pageForm.Execute(p.Out, v)
}

// pageMaking makes the view of a page.
type pageMaking struct {
	*comparing
	view    *pageView
	inputs  map[string]string // what leads to an input on the page
	reasons []compare.ReasonCount
}

func (m *pageMaking) fact(section string, n int, of string) {
	m.view.Facts = append(m.view.Facts,
		pageFact{section, strings.TrimPrefix(source.Count(n, of), strconv.Itoa(n)+" "), n})
}

// cleanAll is Clean for several texts.
func cleanAll(texts []string) []string {
	clean := make([]string, len(texts))
	for i, text := range texts {
		clean[i] = Clean(text)
	}
	return clean
}

// addEnvironments draws which environment extends which.
func (m *pageMaking) addEnvironments(page *Page) {
	if len(page.Environments) == 0 {
		return
	}
	drawn := map[*project.Environment]*pageEnvironment{}
	concrete := 0
	for _, e := range page.Environments {
		one := &pageEnvironment{Name: Clean(e.Name), Abstract: e.Abstract, Tags: cleanAll(e.Tags),
			Compared: slices.Contains(m.view.Sides, e.Name)}
		for _, l := range e.Layers {
			text := m.file(l.Path)
			if l.Into != "" {
				text += " for " + Clean(l.Into)
			}
			one.Layers = append(one.Layers, text)
		}
		drawn[e] = one
		if !e.Abstract {
			concrete++
		}
	}
	for _, e := range page.Environments {
		if e.Extends != nil && drawn[e.Extends] != nil {
			drawn[e.Extends].Extended = append(drawn[e.Extends].Extended, drawn[e])
		} else {
			m.view.Tree = append(m.view.Tree, drawn[e])
		}
	}
	m.fact("environments", concrete, "environment")
}

func (m *pageMaking) addFindings(page *Page) {
	for _, f := range page.Findings {
		var excerpt strings.Builder
		plain := *m.Presenter
		plain.Out, plain.Color = &excerpt, false
		plain.findingBody(f)
		one := pageFinding{Severity: f.Severity.String(), Message: Clean(f.Message), Code: codeText(f),
			Location: m.location(f.Span.Start), Excerpt: strings.TrimSuffix(excerpt.String(), "\n")}
		if len(f.Environments) > 0 {
			one.Environments = m.environments(f.Environments)
		}
		m.view.Findings = append(m.view.Findings, one)
	}
	if len(page.Findings) > 0 {
		m.fact("findings", len(page.Findings), "finding")
	}
}

// addRules shows each rule with what it found, and what is exempt from them.
func (m *pageMaking) addRules(checked *rule.Result) {
	if checked == nil {
		return
	}
	for _, r := range checked.Rules {
		one := pageRule{Name: Clean(r.Object.Name), Reason: Clean(rule.Reason(r.Object)), Looks: Clean(r.Looks()),
			Seen: seen(checked, r), Found: FoundText(r), Exempt: r.Exempt, Location: m.line(r.Object.Span.Start),
			Class: "fine"}
		switch {
		case r.Errors > 0 || r.Failed:
			one.Class = "error"
		case r.Warnings > 0:
			one.Class = "warning"
		}
		m.view.Rules = append(m.view.Rules, one)
	}
	if len(checked.Links) > 0 {
		m.view.Links = source.Count(checked.References, "link") + " between documents followed"
	}
	for _, e := range checked.Exemptions {
		one := pageExemption{Of: Clean(exemptionText(e)), Reason: Clean(e.Reason), Class: "fine",
			Until: "until "}
		if e.Ended {
			one.Until, one.Class = "ended on ", "error"
		}
		one.Until += e.Until.Format(time.DateOnly) + ", " + source.Count(e.Exempt, "violation")
		m.view.Exemptions = append(m.view.Exemptions, one)
	}
	if len(checked.Rules) > 0 {
		m.fact("rules", len(checked.Rules), "rule")
	}
}

func (m *pageMaking) addInputs(in *Inputs) {
	for i, input := range in.Inputs {
		one := pageInput{ID: "input-" + input.Name(), Name: input.Name(), Type: typeText(input),
			Default: defaultCell(m.Presenter, input).text, Location: m.line(input.Span.Start)}
		m.inputs[input.Name()] = one.ID
		if input.Description != "" {
			one.About = append(one.About, Clean(input.Description))
		}
		if input.Deprecated != "" {
			one.About = append(one.About, "deprecated: "+Clean(input.Deprecated))
		}
		for _, limit := range input.Limits() {
			one.About = append(one.About, "where "+Clean(limit.Text))
		}
		var texts []string
		for j := range in.Runs {
			cell := m.settingOnPage(input, in.Settings[i][j])
			texts = append(texts, cell.Text+cell.Whole+cell.Note)
			one.Cells = append(one.Cells, cell)
		}
		for j, class := range classesOf(texts) {
			one.Cells[j].Class = class
		}
		m.view.Inputs = append(m.view.Inputs, one)
	}
}

// settingOnPage is the value of an input in an environment, and where it is from.
func (m *pageMaking) settingOnPage(in *project.Input, s project.Settings) pageCell {
	var cell pageCell
	from := func(setting project.Setting) string {
		if setting.Reference != nil {
			return m.line(setting.At) + " " + setting.Reference.String()
		}
		return m.line(setting.At)
	}
	switch n := len(s.All); {
	case n == 0:
		cell.Note = settingCellNote(in, s)
	case s.All[n-1].Reference != nil:
		cell.Note, cell.From = "secret", from(s.All[n-1])
		return cell
	default:
		cell.From = from(s.All[n-1])
		if n > 1 {
			cell.From += ", overrides " + from(s.All[n-2])
		}
		if s.Repeats {
			cell.From += ", repeats the value without this layer"
		}
		if s.Value.IsAbsent() {
			s.Value, cell.Note = s.All[n-1].Value, "does not fit"
		}
	}
	if !s.Value.IsAbsent() {
		cell.Text, cell.Whole = wholeText(value.Shown(s.Value))
	}
	return cell
}

// settingCellNote says why an input has the value that it has, when no layer gives it one.
func settingCellNote(in *project.Input, s project.Settings) string {
	switch {
	case in.Later:
		return "unresolved"
	case s.Value.IsAbsent() && in.Required():
		return "missing"
	case s.Value.IsAbsent():
		return "not there"
	}
	return "default"
}

// wholeText returns a value as it is shown first, and all of it where that is not all.
func wholeText(v value.Value) (text, whole string) {
	text = v.Show(1 << 20)
	runes := []rune(text)
	if len(runes) <= mostCellText {
		return Clean(text), ""
	}
	whole = text
	if v.Kind() == value.String {
		whole = v.Text()
	}
	if all := []rune(whole); len(all) > mostWholeText {
		whole = string(all[:mostWholeText]) + fmt.Sprintf("\n… and %d characters more", len(all)-mostWholeText)
	}
	return Clean(string(runes[:mostCellText-1])) + "…", harmless([]byte(whole))
}

// classesOf gives texts that are alike one class, in the order in which they come up.
func classesOf(texts []string) []string {
	numbers := make([]int, len(texts))
	for i, text := range texts {
		numbers[i] = slices.Index(texts, text)
	}
	seen := slices.Clone(numbers)
	slices.Sort(seen)
	seen = slices.Compact(seen)
	names := make([]string, len(texts))
	for i, n := range numbers {
		names[i] = className(slices.Index(seen, n))
	}
	return names
}

// className is the class of a cell in the style of the page.
func className(number int) string {
	if number < 0 {
		return "absent"
	}
	return "c" + strconv.Itoa(min(number, 5))
}

func (m *pageMaking) addComparison(c *compare.Comparison) {
	v := m.view
	v.Sides, v.Compared, v.InPart, v.DocumentsFirst = nil, len(c.Sides) > 1, c.Unread > 0,
		len(c.Sides) != 2 && len(c.Documents) <= manyDocuments
	for _, side := range c.Sides {
		v.Sides = append(v.Sides, Clean(side))
	}
	switch n := len(v.Sides); {
	case n > manySides*2:
		v.Wide = " most"
	case n > manySides:
		v.Wide = " many"
	}
	m.fact("documents", len(c.Documents), "document")
	if v.Compared {
		m.addReasons()
		m.addGroups()
	}
	m.addDocuments()
	for _, d := range c.Documents {
		for _, u := range d.Unread {
			from := "from one source"
			switch {
			case u.Differs():
				from = strings.Join(u.From, " → ")
			case slices.Contains(u.From, ""):
				from = ""
			}
			v.Unread = append(v.Unread, pageUnread{Clean(d.Path), Clean(u.Path.String()), Clean(from)})
		}
	}
}

// addReasons counts because of what places differ; the last is for those of which the template alone is the cause.
func (m *pageMaking) addReasons() {
	m.reasons = m.c.Reasons()
	for i, r := range m.reasons {
		m.view.Reasons = append(m.view.Reasons,
			pageReason{Index: i, Places: r.Places, Name: m.because(r.Name) + parts(r)})
	}
	n := 0
	for _, d := range m.c.Documents {
		if !d.Alike() && d.Against > 0 && len(d.Cause.Because) == 0 {
			n++
		}
		for _, row := range d.Rows {
			if len(row.Cause.Because) == 0 {
				n++
			}
		}
	}
	if n > 0 && len(m.reasons) > 0 {
		m.view.Reasons = append(m.view.Reasons,
			pageReason{Index: len(m.reasons), Places: n, Name: "no input"})
	}
}

// linkTo is what leads to an input, or the environments; empty where the page has neither.
func (m *pageMaking) linkTo(r explain.Reason) string {
	switch {
	case m.c.Sources != nil:
		return ""
	case r.Path != nil:
		return m.inputs[r.Whole()]
	case m.view.Tree != nil:
		return "environments"
	}
	return ""
}

// cause is the cause of a difference.
func (m *pageMaking) causeOf(cause explain.Cause, against int) pageCause {
	names, lines := m.causeParts(cause, against)
	p := pageCause{Lines: lines}
	for _, name := range names {
		p.Names = append(p.Names, pageLink{name.text, m.linkTo(name.of)})
	}
	var numbers []string
	for i, r := range m.reasons {
		if slices.ContainsFunc(cause.Because, func(b explain.Reason) bool {
			return b.Name == r.Name || r.Parts > 0 && b.Whole() == r.Name
		}) {
			numbers = append(numbers, strconv.Itoa(i))
		}
	}
	if len(cause.Because) == 0 {
		numbers = []string{strconv.Itoa(len(m.reasons))}
	}
	p.Reasons = strings.Join(numbers, " ")
	return p
}

// addGroups shows what differs, up to as many rows as a browser can show.
func (m *pageMaking) addGroups() {
	v, rows, left, places := m.view, 0, 0, 0
	m.groups = m.c.Groups(m.options.GroupOptions)
	for _, g := range m.groups {
		for _, f := range g.Rows {
			places += f.Places
		}
		if len(g.Rows) == 0 {
			places += len(g.Documents)
		}
		if rows += max(1, len(g.Rows)); rows > mostPageRows {
			left++
			continue
		}
		group := m.group(len(v.Groups)+1, g)
		group.Open = rows <= openPageRows
		v.Groups = append(v.Groups, group)
	}
	if left > 0 {
		v.Left = fmt.Sprintf("And %s more, too many for one page: name fewer environments, or documents with "+
			"--only.", source.Count(left, "group"))
	}
	m.fact("differences", places, "difference")
	if places != 1 {
		v.Facts[len(v.Facts)-1].Text = "differences"
	}
}

func (m *pageMaking) group(number int, g compare.Group) pageGroup {
	first := g.Documents[0]
	one := pageGroup{ID: "difference-" + strconv.Itoa(number), Title: Clean(first.Path),
		Classes: numbersOf(first.Classes())}
	switch {
	case g.Cause != "":
		one.Title = Clean(g.Cause)
	case len(g.Documents) > 1:
		pattern := commonPattern(g.Documents)
		one.Title, one.Note = Clean(pattern), source.Count(len(g.Documents), "document")
		for i, name := range documentNames(g.Documents, pattern) {
			one.Documents = append(one.Documents, pageName{fmt.Sprintf("%s-%d", one.ID, i+1), name})
			if i < fewNames {
				one.First += name + ", "
			}
		}
		if one.First += fmt.Sprintf("and %d more", len(g.Documents)-fewNames); len(g.Documents) <= manyNames {
			one.First = ""
		}
	case first.Title != "":
		one.Note = Clean(first.Title)
	}
	if only := m.only(first); only != "" && g.Cause == "" {
		cause := m.causeOf(first.Cause, first.Against)
		cause.On = only
		one.Cause = &cause
	}
	for _, f := range g.Rows {
		one.Rows = append(one.Rows, m.row(f))
	}
	return one
}

// kindNotes say how something differs, where its values do not.
var kindNotes = map[compare.ChangeKind]string{compare.Moved: "moved", compare.Renamed: "renamed",
	compare.Order: "another order", compare.Retyped: "another type", compare.Text: "lines that differ"}

func (m *pageMaking) row(f compare.Folded) pageRow {
	classes := f.Classes()
	row := pageRow{Place: rowName(f), Classes: numbersOf(classes), Cause: m.causeOf(f.Cause, f.Against)}
	var notes []string
	if kind := kindNotes[f.Kind]; kind != "" {
		notes = append(notes, kind)
	}
	if f.Places > len(f.Documents) {
		notes = append(notes, fmt.Sprintf("%d paths", f.Places))
	}
	if m.options.ByCause {
		notes = append(notes, "in "+strings.Join(documentNames(f.Documents, "."), ", "))
	}
	row.Note = strings.Join(notes, ", ")
	for i, v := range f.Cells {
		cell := pageCell{Class: className(classes[i])}
		switch {
		case classes[i] < 0:
			cell.Note = "not there"
		case f.Kind == compare.Text:
			cell.Lines = m.notedLines(f, i, textLines(f.Cells, i))
		case f.Kind == compare.Embedded:
			cell.Note = f.Node.Format + " in a string"
			cell.Lines = innerLines(f.Node.Inner, i)
		case !f.Whole():
			cell.Note = "there"
		default:
			if f.Kind == compare.Moved {
				cell.Note = fmt.Sprintf("at [%d]", f.Node.At[i])
			}
			cell.Text, cell.Whole = wholeText(value.Shown(v))
		}
		row.Cells = append(row.Cells, cell)
	}
	return row
}

// textLines are the lines of a text on a side that not all others have; of the first side, those that any other lacks.
func textLines(cells []value.Value, side int) (lines []pageLine) {
	known := map[int]bool{}
	for other, v := range cells {
		if v.IsAbsent() || (side > 0) != (other == 0) {
			continue
		}
		left, right := cells[side], v
		if side > 0 {
			left, right = v, cells[side]
		}
		for _, line := range compare.Lines(value.Shown(left).Text(), value.Shown(right).Text()) {
			number := line.Left
			if side > 0 {
				number = line.Right
			}
			if line.Left > 0 && line.Right > 0 || number == 0 || known[number] {
				continue
			}
			known[number] = true
			text := visible(strings.TrimSuffix(line.Text, "\n"))
			lines = append(lines, pageLine{Mark: strconv.Itoa(number), Text: text})
		}
	}
	if len(lines) == 0 {
		return []pageLine{{Text: "the lines that all have"}}
	}
	return mostLines(lines)
}

// notedLines adds to lines of a text on a side what each comes from, where the text was compared for it.
func (m *pageMaking) notedLines(f compare.Folded, side int, lines []pageLine) []pageLine {
	whole := m.cause(f.Cause, f.Against)
	for _, changed := range f.Changed {
		on := 0
		if changed.Right {
			on = f.Against
		}
		at := slices.IndexFunc(lines, func(l pageLine) bool { return l.Mark == strconv.Itoa(changed.Number) })
		if note := m.lineCause(changed, on); on == side && at >= 0 && note != whole {
			lines[at].From = note
		}
	}
	return lines
}

// innerLines are the differences in data in a text, as they are on a side.
func innerLines(n *compare.Node, side int) (lines []pageLine) {
	for _, row := range n.Rows() {
		text := "not there"
		if v := row.Cells[side]; !v.IsAbsent() {
			text, _ = wholeText(value.Shown(v))
			if row.Kind == compare.Moved {
				text = fmt.Sprintf("at [%d] %s", row.Node.At[side], text)
			}
		}
		lines = append(lines, pageLine{Mark: Clean(row.Path.String()), Text: text})
	}
	return mostLines(lines)
}

func mostLines(lines []pageLine) []pageLine {
	if len(lines) <= mostCellLines {
		return lines
	}
	return append(lines[:mostCellLines-1:mostCellLines-1],
		pageLine{Text: fmt.Sprintf("and %d lines more", len(lines)-mostCellLines+1)})
}

func numbersOf(classes []int) string {
	texts := make([]string, len(classes))
	for i, n := range classes {
		texts[i] = strconv.Itoa(n)
	}
	return strings.Join(texts, " ")
}

// addDocuments shows which sides have the same document.
func (m *pageMaking) addDocuments() {
	links := map[string]string{}
	for i, shown := range m.view.Groups {
		for _, d := range m.groups[i].Documents {
			if links[d.Path] == "" {
				links[d.Path] = shown.ID
			}
		}
	}
	for i := range m.c.Documents {
		d := &m.c.Documents[i]
		one := pageDocument{Path: Clean(d.Path), Title: Clean(d.Title), Link: links[d.Path]}
		switch n := len(d.Rows); {
		case !m.view.Compared:
		case n > 0:
			one.Says = source.Count(n, "path")
		case d.Reordered:
			one.Says = "same data, other order of keys"
		case d.Status == compare.Same:
			one.Says = "same"
		case d.Status == compare.SameUnread:
			one.Says = "compared in part"
		default:
			one.Says = m.only(d)
		}
		for _, class := range d.Classes() {
			cell := pageCell{Class: className(class), Text: "–"}
			if class >= 0 {
				cell.Text = strings.ToUpper(letters(class))
			}
			one.Cells = append(one.Cells, cell)
		}
		m.view.Documents = append(m.view.Documents, one)
	}
}
