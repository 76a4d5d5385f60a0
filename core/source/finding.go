package source

import (
	"fmt"
	"strings"
	"unicode"
)

// Severity says how much a finding weighs.
type Severity uint8

// The two weights: an Error stops rendering, a Warning does not.
const (
	Error Severity = iota
	Warning
)

// String returns the word that is in messages.
func (s Severity) String() string {
	if s == Warning {
		return "warning"
	}
	return "error"
}

// Finding is the one form for everything that can be reported about a project. Message says what is wrong, what was
// expected and what was found; Help is the likely fix and comes after the marked source.
type Finding struct {
	Code     Code
	Severity Severity
	Span     Span // invalid when no file is to blame, such as for a wrong argument
	Message  string
	Help     string
	Related  []Related
	Input    string // the input of the project whose value is to blame; empty when it is none
	// Environments are the environments in which this was found; empty when it holds in all of them or does not
	// depend on any.
	Environments []string
	// Broken is the rule that is broken; nil for what breaks none.
	Broken *Broken
	// About is the document that it is about, until a Report has folded it with those about other documents.
	About *About
}

// Broken says which rule of the project is broken where.
type Broken struct {
	Rule      string
	Reason    string // the description of the rule; may be empty
	Span      Span   // of the name of the rule where it is declared
	Condition Pos    // of what does not hold, in the rule; not valid for a rule that fails
	Advice    bool   // it is advice, and no requirement
	Documents []string
	Place     string // in the first of the documents; empty for all of it
}

// Related is another place that helps to understand a finding.
type Related struct {
	Span Span
	Text string
}

// Findings collects findings.
type Findings []Finding

// Add appends a finding.
func (fs *Findings) Add(f Finding) { *fs = append(*fs, f) }

// Count returns how many errors and warnings there are.
func (fs Findings) Count() (errors, warnings int) {
	for _, f := range fs {
		if f.Severity == Error {
			errors++
		} else {
			warnings++
		}
	}
	return errors, warnings
}

// HasErrors reports whether one of them is an error.
func (fs Findings) HasErrors() bool {
	errors, _ := fs.Count()
	return errors > 0
}

// broken tells findings of rules apart: by the rule and the condition in it. Two rules may say the same of one place.
func (f *Finding) broken() (rule string, declared, condition Pos) {
	if f.Broken == nil {
		return "", NoPos, NoPos
	}
	return f.Broken.Rule, f.Broken.Span.Start, f.Broken.Condition
}

// Nearest returns the candidate that name is most likely a misspelling of, and whether there is one. The distance is
// the number of letters that were added, left out, changed or swapped with their neighbour; at most a third of the
// name may differ. Equal candidates are taken in alphabetical order.
func Nearest(name string, candidates []string) (string, bool) {
	letters := []rune(name)
	limit := 1 + max(1, len(letters)/3)
	if len(letters) < 3 {
		limit = 1 // names of one or two letters are all alike
	}
	best, bestDistance, alike := "", limit, ""
	for _, candidate := range candidates {
		if candidate == name {
			continue
		}
		if strings.EqualFold(candidate, name) && (alike == "" || candidate < alike) {
			alike = candidate
		}
		d := distance(letters, []rune(candidate), min(limit, bestDistance+1))
		if d < bestDistance || d == bestDistance && d < limit && candidate < best {
			best, bestDistance = candidate, d
		}
	}
	if alike != "" {
		return alike, true
	}
	return best, best != ""
}

// Suggest is the help for a name that does not exist: the candidate that it is most likely a misspelling of, else
// another help.
func Suggest(name string, candidates []string, otherwise string) string {
	if near, ok := Nearest(name, candidates); ok {
		return DidYouMean(near)
	}
	return otherwise
}

// DidYouMean is the help that suggests a name.
func DidYouMean(name string) string { return fmt.Sprintf("did you mean %q?", name) }

// Suggestions finds nearest names for many errors. A text may be wrong in more places than there is time for
// suggestions: after some, there are no more.
type Suggestions struct{ compared int }

// maxCompared is how many names are compared for the suggestions of one program.
const maxCompared = 4_000_000

// Left reports whether there is time for more suggestions.
func (s *Suggestions) Left() bool { return s.compared <= maxCompared }

// Nearest is Nearest while there is time for it.
func (s *Suggestions) Nearest(name string, candidates []string) (string, bool) {
	if s.compared += len(candidates); s.compared > maxCompared {
		return "", false
	}
	return Nearest(name, candidates)
}

// Suggest is Suggest while there is time for it.
func (s *Suggestions) Suggest(name string, candidates []string, otherwise string) string {
	if near, ok := s.Nearest(name, candidates); ok {
		return DidYouMean(near)
	}
	return otherwise
}

// Distance is how many letters have to be added, left out, changed or swapped with their neighbour to make one text of
// another.
func Distance(a, b string) int { return distance([]rune(a), []rune(b), len(a)+len(b)+1) }

// distance is the edit distance with transpositions of neighbours (optimal string alignment), or limit when it is
// at least that.
func distance(a, b []rune, limit int) int {
	if len(a)-len(b) >= limit || len(b)-len(a) >= limit {
		return limit
	}
	before, previous, current := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range previous {
		previous[j] = j
	}
	for i := 1; i <= len(a); i++ {
		current[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			current[j] = min(previous[j]+1, current[j-1]+1, previous[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				current[j] = min(current[j], before[j-2]+1)
			}
		}
		before, previous, current = previous, current, before
	}
	return min(limit, previous[len(b)])
}

// WordOf returns a key as far as it is a word, where the rest of it might be something that was not meant as a key.
func WordOf(key string) string {
	for i, r := range key {
		if r != '_' && r != '-' && r != '.' && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			return key[:i] + "…"
		}
	}
	return key
}

// DescribeRune names a character so that also an invisible one can be told.
func DescribeRune(r rune) string {
	if unicode.IsGraphic(r) && !unicode.IsSpace(r) {
		if r > unicode.MaxASCII {
			return fmt.Sprintf("“%c” (U+%04X)", r, r)
		}
		return fmt.Sprintf("%q", string(r))
	}
	return fmt.Sprintf("U+%04X", r)
}
