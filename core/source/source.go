// Package source holds the texts that Knothole reads (sources, layers, data files) and says where in them
// something stands. It exists so that every other package can carry a position as one 32-bit number and leave
// line and column to the moment at which something is printed.
package source

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"
	"unicode/utf16"
	"unicode/utf8"
)

// Pos is a place in one of the files of a Set: a byte offset that counts through all files of the set. The zero
// value is no place. The highest bit is never set in a Pos, so that a number that holds either a Pos or something
// else (an origin) can tell them apart.
type Pos uint32

// NoPos is the absence of a place.
const NoPos Pos = 0

// maxPos is the number of bytes that all files of a Set may have together.
const maxPos = 1<<31 - 1

// IsValid reports whether p is a place.
func (p Pos) IsValid() bool { return p != NoPos }

// Span is the text from Start up to, not including, End. An End that is NoPos stands for "as far as the word,
// text or number at Start reaches".
type Span struct{ Start, End Pos }

// At returns the span of the word, text or number that begins at p.
func At(p Pos) Span { return Span{Start: p} }

// IsValid reports whether the span is a place.
func (s Span) IsValid() bool { return s.Start.IsValid() }

// To returns the span from the start of s to the end of other.
func (s Span) To(other Span) Span { return Span{Start: s.Start, End: other.End} }

// File is one text with its path, relative to the project, with forward slashes.
type File struct {
	Path string
	Text string

	base   Pos
	once   sync.Once
	lines  []int // offsets at which lines begin
	runes  []int // how many characters begin before each block of the text
	mu     sync.Mutex
	hidden map[int]bool // numbers of lines that are not shown
}

// Pos returns the place of the byte at the given offset.
func (f *File) Pos(offset int) Pos { return f.base + Pos(offset) }

// Offset returns the offset of a place in this file.
func (f *File) Offset(p Pos) int { return int(p - f.base) }

// Span returns the span between two offsets.
func (f *File) Span(start, end int) Span { return Span{f.Pos(start), f.Pos(end)} }

// Slice returns the text of a span of this file.
func (f *File) Slice(s Span) string { return f.Text[f.Offset(s.Start):f.Offset(s.End)] }

func (f *File) lineStarts() []int {
	f.once.Do(func() {
		f.lines = append(f.lines, 0)
		for i := 0; i < len(f.Text); i++ {
			if f.Text[i] == '\n' {
				f.lines = append(f.lines, i+1)
			}
		}
		f.runes = append(f.runes, 0)
		for at := 0; at+runeBlock <= len(f.Text); at += runeBlock {
			f.runes = append(f.runes, f.runes[len(f.runes)-1]+runesIn(f.Text[at:at+runeBlock]))
		}
	})
	return f.lines
}

// runeBlock is how long the blocks are whose characters are counted once, in bytes: a line may be very long, and have
// many places.
const runeBlock = 4 << 10

// runesIn counts the characters that begin in a text.
func runesIn(text string) int {
	n := 0
	for i := 0; i < len(text); i++ {
		if utf8.RuneStart(text[i]) {
			n++
		}
	}
	return n
}

// runesBefore counts the characters that begin before an offset.
func (f *File) runesBefore(offset int) int {
	block := offset / runeBlock
	return f.runes[block] + runesIn(f.Text[block*runeBlock:offset])
}

// LineStart returns the offset at which the line with the given number begins, counted from 1.
func (f *File) LineStart(number int) int {
	starts := f.lineStarts()
	return starts[max(1, min(number, len(starts)))-1]
}

// Hide keeps the line of a place from being shown.
func (f *File) Hide(p Pos) {
	offset := f.Offset(p)
	if offset < 0 || offset > len(f.Text) {
		return
	}
	starts := f.lineStarts()
	line := sort.Search(len(starts), func(i int) bool { return starts[i] > offset })
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.hidden == nil {
		f.hidden = map[int]bool{}
	}
	f.hidden[line] = true
}

// Hidden reports whether the line with a number is not to be shown.
func (f *File) Hidden(line int) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.hidden[line]
}

// Line returns the text of the line with the given number, counted from 1, without its end.
func (f *File) Line(number int) string {
	starts := f.lineStarts()
	if number < 1 || number > len(starts) {
		return ""
	}
	end := len(f.Text)
	if number < len(starts) {
		end = starts[number] - 1
	}
	return strings.TrimSuffix(f.Text[starts[number-1]:end], "\r")
}

// LineSpan returns the place of a column (counted from 1, in code points) of a line, for readers that count in
// lines. A place outside the text becomes the nearest inside.
func (f *File) LineSpan(line, column int) Span {
	starts := f.lineStarts()
	line = max(1, min(line, len(starts)))
	offset, text := starts[line-1], f.Line(line)
	for i := range text {
		if column <= 1 {
			return At(f.Pos(offset + i))
		}
		column--
	}
	return At(f.Pos(offset + len(text)))
}

// TokenEnd returns the offset after the word, number or quoted text that begins at offset; it never leaves the
// line. It serves places of which only the start is known.
func (f *File) TokenEnd(offset int) int {
	rest := f.Text[min(offset, len(f.Text)):]
	if end := strings.IndexByte(rest, '\n'); end >= 0 {
		rest = rest[:end]
	}
	if end := strings.IndexByte(rest, '\r'); end >= 0 {
		rest = rest[:end]
	}
	if rest == "" {
		return offset
	}
	if quote := rest[0]; quote == '"' || quote == '\'' {
		for i := 1; i < len(rest); i++ {
			if rest[i] == '\\' && quote == '"' {
				i++
			} else if rest[i] == quote {
				return offset + i + 1
			}
		}
		return offset + len(rest)
	}
	for i, r := range rest {
		word := r == '_' || r == '-' || r == '.' || r == '/' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' ||
			r >= 'A' && r <= 'Z' || r >= utf8.RuneSelf
		if !word {
			if i == 0 {
				return offset + utf8.RuneLen(r)
			}
			return offset + i
		}
	}
	return offset + len(rest)
}

// Location is a place as a person reads it. Line and Column count from 1, columns in code points.
type Location struct {
	File   *File
	Line   int
	Column int
}

// String returns file:line:column.
func (l Location) String() string {
	if l.File == nil {
		return "-"
	}
	return fmt.Sprintf("%s:%d:%d", l.File.Path, l.Line, l.Column)
}

// UTF16 returns the line and column of an offset, counted from 0, columns in UTF-16 code units, as editors count them
// (Language Server Protocol 3.17, Position).
func (f *File) UTF16(offset int) (line, column int) {
	starts := f.lineStarts()
	line = sort.Search(len(starts), func(i int) bool { return starts[i] > offset }) - 1
	return line, utf16Length(f.Text[starts[line]:offset])
}

// UTF16Offset returns the offset of a line and column as UTF16 counts them. A place outside of the text becomes the
// nearest inside; one inside of a character its beginning.
func (f *File) UTF16Offset(line, column int) int {
	starts := f.lineStarts()
	line = max(0, min(line, len(starts)-1))
	offset, text := starts[line], f.Line(line+1)
	for i, r := range text {
		if column -= utf16.RuneLen(r); column < 0 {
			return offset + i
		}
	}
	return offset + len(text)
}

func utf16Length(text string) int {
	n := 0
	for _, r := range text {
		n += utf16.RuneLen(r)
	}
	return n
}

// Set is all the files that one run has read. It may be used by several goroutines.
type Set struct {
	mu    sync.RWMutex
	files []*File // in the order of their places
	next  Pos
	free  []room // of files that were replaced
}

// room is places that no file has any more.
type room struct{ from, end Pos }

// NewSet returns an empty set.
func NewSet() *Set { return &Set{next: 1} }

// ErrTooMuch is returned when the files of a set would be more than 2 GiB together.
var ErrTooMuch = fmt.Errorf("more than 2 GiB of sources and data in one run")

// Add adds a file. The error is ErrTooMuch or nil.
func (s *Set) Add(path string, text []byte) (*File, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.add(path, text)
}

func (s *Set) add(path string, text []byte) (*File, error) {
	need := uint64(len(text)) + 1
	f := &File{Path: path, Text: string(text), base: s.next}
	if uint64(s.next)+need <= maxPos {
		s.next += Pos(need)
		s.files = append(s.files, f)
		return f, nil
	}
	for i := range s.free {
		if r := &s.free[i]; uint64(r.end-r.from) >= need {
			f.base = r.from
			r.from += Pos(need)
			at := sort.Search(len(s.files), func(i int) bool { return s.files[i].base > f.base })
			s.files = slices.Insert(s.files, at, f)
			return f, nil
		}
	}
	return nil, ErrTooMuch
}

// Replace puts a new version of a file in its place: no place is in the old one any more. Places of the old version are
// given out again only when there are no others left. The error is ErrTooMuch or nil; then the old version stays.
func (s *Set) Replace(old *File, text []byte) (*File, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f, err := s.add(old.Path, text)
	if err != nil {
		return nil, err
	}
	if at := slices.Index(s.files, old); at >= 0 {
		s.files = slices.Delete(s.files, at, at+1)
		s.free = append(s.free, room{old.base, old.base + Pos(len(old.Text)) + 1})
	}
	return f, nil
}

// File returns the file in which p lies, or nil.
func (s *Set) File(p Pos) *File {
	s.mu.RLock()
	defer s.mu.RUnlock()
	i := sort.Search(len(s.files), func(i int) bool { return s.files[i].base > p })
	if !p.IsValid() || i == 0 {
		return nil
	}
	if f := s.files[i-1]; f.Offset(p) <= len(f.Text) {
		return f
	}
	return nil // it was replaced
}

// Files returns the files of the set.
func (s *Set) Files() []*File {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return slices.Clone(s.files)
}

// Named returns the last file with a path; nil when there is none.
func (s *Set) Named(path string) *File {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, f := range slices.Backward(s.files) {
		if f.Path == path {
			return f
		}
	}
	return nil
}

// Locate returns the file, line and column of a place.
func (s *Set) Locate(p Pos) Location {
	f := s.File(p)
	if f == nil {
		return Location{}
	}
	offset := min(f.Offset(p), len(f.Text))
	starts := f.lineStarts()
	line := sort.Search(len(starts), func(i int) bool { return starts[i] > offset })
	return Location{File: f, Line: line, Column: f.runesBefore(offset) - f.runesBefore(starts[line-1]) + 1}
}
