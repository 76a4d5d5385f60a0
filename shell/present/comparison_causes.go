package present

import (
	"fmt"
	"strings"

	"knothole/core/explain"
	"knothole/core/source"
)

// causeName is something that a difference is because of, as it is shown, and what it means.
type causeName struct {
	text string
	of   explain.Reason
}

// cause says why values differ: what they depend on, and the lines that decided them, of layers or of templates. Where
// causes were tried, one that was not, because that takes too long or cannot be evaluated, says so.
func (s *comparing) cause(c explain.Cause, against int) string {
	text := s.causeText(c, against)
	if len(c.Because) > 0 && !c.Tried && s.c.Tried {
		text += " (not verified)"
	}
	return text
}

func (s *comparing) causeText(c explain.Cause, against int) string {
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
		parts[r.Whole()]++
	}
	for _, r := range c.Because {
		input := r.Whole()
		switch n := parts[input]; {
		case n <= fewParts || s.options.Full:
			names = append(names, causeName{s.because(r.Name), r})
		case n > 0:
			names = append(names, causeName{fmt.Sprintf("%s (%d parts)", Clean(input), n), r})
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
	lines = fromTo(left, right)
	for _, r := range c.Because {
		if told := s.told(r, against); told != "" {
			lines += ", " + told
		}
	}
	return names, lines
}

// told says why the outputs of other environments differ that a reason is.
func (s *comparing) told(r explain.Reason, against int) string {
	if r.Upstream == nil {
		return ""
	}
	text := "from the outputs of " + Clean(r.Upstream.By[0])
	if r.Upstream.By[1] != r.Upstream.By[0] {
		text += ", " + Clean(r.Upstream.By[1])
	}
	if why := s.causeText(r.Upstream.Cause, against); why != "" {
		text += " because of " + why
	}
	return text
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

// fromTo joins two places.
func fromTo(left, right string) string {
	switch {
	case left == "" || left == right:
		return right
	case right == "":
		return left
	}
	return left + " → " + right
}
