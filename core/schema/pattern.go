package schema

import (
	"errors"
	"fmt"
	"regexp"
	"regexp/syntax"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Patterns of JSON Schema are regular expressions of ECMA-262. Those that mean something to RE2 are translated to it;
// the others (looking ahead and behind, references back) cannot be, and are refused.

// Instructions returns the length of the program of a pattern, by which it is known how long matching takes.
func Instructions(pattern string) int {
	if tree, err := syntax.Parse(pattern, syntax.Perl); err == nil {
		if program, err := syntax.Compile(tree.Simplify()); err == nil {
			return len(program.Inst)
		}
	}
	return 1
}

// errInvalid is a pattern that ECMA-262 does not allow; an error that is not errInvalid is one that RE2 cannot say.
var errInvalid = errors.New("not a regular expression")

func invalid(format string, arguments ...any) error {
	return fmt.Errorf("%w: %s", errInvalid, fmt.Sprintf(format, arguments...))
}

// compilePattern compiles a pattern of ECMA-262 section 22.2.
func compilePattern(pattern string) (*regexp.Regexp, error) {
	translated, err := translate(pattern)
	if err != nil {
		return nil, err
	}
	return compileRE2(translated)
}

// compileRE2 compiles a pattern of RE2.
func compileRE2(pattern string) (*regexp.Regexp, error) {
	compiled, err := regexp.Compile(pattern)
	if err != nil {
		message := err.Error()
		if at := strings.LastIndex(message, "regexp: "); at >= 0 {
			message = message[at+len("regexp: "):]
		}
		return nil, errors.New(strings.TrimPrefix(message, "error parsing "))
	}
	return compiled, nil
}

// ecmaSpace is what \s is in ECMA-262 section 12.2 and 12.3.
const ecmaSpace = `\t\n\x0B\f\r \x{A0}\x{FEFF}\x{2028}\x{2029}\p{Zs}`

type translator struct {
	text   string
	at     int
	out    strings.Builder
	depth  int             // of open groups
	groups map[string]bool // the named ones
	set    bool            // what was read last in a set is a set itself
}

// translate writes a pattern of ECMA-262, read as with the flag u where that is stricter only in doubt, as one of RE2.
func translate(pattern string) (string, error) {
	t := &translator{text: pattern, groups: map[string]bool{}}
	if err := t.alternatives(); err != nil {
		return "", err
	}
	if t.at < len(t.text) {
		return "", invalid("the ) at %d closes nothing", t.at)
	}
	return t.out.String(), nil
}

func (t *translator) next() (rune, bool) {
	if t.at >= len(t.text) {
		return 0, false
	}
	r, size := utf8.DecodeRuneInString(t.text[t.at:])
	t.at += size
	return r, true
}

func (t *translator) take(text string) bool {
	if strings.HasPrefix(t.text[t.at:], text) {
		t.at += len(text)
		return true
	}
	return false
}

// maxGroups bounds how deep groups nest.
const maxGroups = 1000

// alternatives goes on to the end of the text, or to a bracket that closes the group.
func (t *translator) alternatives() error {
	t.depth++
	defer func() { t.depth-- }()
	if t.depth > maxGroups {
		return invalid("it nests too deep")
	}
	for t.at < len(t.text) {
		switch t.text[t.at] {
		case ')':
			return nil
		case '|':
			t.out.WriteByte('|')
			t.at++
		default:
			if err := t.term(); err != nil {
				return err
			}
		}
	}
	return nil
}

// term is an assertion, or an atom with how often it stands.
func (t *translator) term() error {
	from := t.out.Len()
	repeats := true
	switch {
	case t.take("^"), t.take("$"):
		t.out.WriteByte(t.text[t.at-1])
		repeats = false
	case t.take(`\b`), t.take(`\B`):
		t.out.WriteString(t.text[t.at-2 : t.at])
		repeats = false
	case t.take("("):
		if err := t.group(); err != nil {
			return err
		}
	case t.take("["):
		if err := t.class(); err != nil {
			return err
		}
	case t.take("."):
		t.out.WriteString(`[^\n\r\x{2028}\x{2029}]`)
	case t.take(`\`):
		text, err := t.escape(false)
		if err != nil {
			return err
		}
		t.out.WriteString(text)
	default:
		r, _ := t.next()
		if strings.ContainsRune("*+?", r) {
			return invalid("there is nothing to repeat before %c", r)
		}
		if r == '{' && quantifier.MatchString(t.text[t.at-1:]) {
			return invalid("there is nothing to repeat before {")
		}
		t.out.WriteString(regexp.QuoteMeta(string(r)))
	}
	return t.quantifier(from, repeats)
}

var quantifier = regexp.MustCompile(`^\{(\d+)(,(\d*))?\}`)

// mostRepeats is how often RE2 repeats at most.
const mostRepeats = 1000

// quantifier reads how often what was written from an offset on stands.
func (t *translator) quantifier(from int, repeats bool) error {
	written := ""
	switch {
	case t.take("*"), t.take("+"), t.take("?"):
		written = t.text[t.at-1 : t.at]
	case quantifier.MatchString(t.text[t.at:]):
		written = quantifier.FindString(t.text[t.at:])
		t.at += len(written)
	default:
		return nil
	}
	if !repeats {
		return invalid("%s cannot repeat what is before it", written)
	}
	lazy := ""
	if t.take("?") {
		lazy = "?"
	}
	parts := quantifier.FindStringSubmatch(written)
	if parts == nil {
		t.out.WriteString(written + lazy)
		return nil
	}
	low, err := strconv.Atoi(parts[1])
	high, errHigh := low, error(nil)
	unbounded := parts[2] == ","
	if parts[3] != "" {
		high, errHigh = strconv.Atoi(parts[3])
	}
	switch {
	case err != nil || errHigh != nil:
		return errors.New("it repeats too often")
	case !unbounded && high < low:
		return invalid("%s has its numbers in the wrong order", written)
	case low <= mostRepeats && high <= mostRepeats:
		t.out.WriteString(written + lazy)
		return nil
	case high > 100*mostRepeats || low > 100*mostRepeats:
		return errors.New("it repeats too often")
	}
	// More than RE2 repeats at once: one after the other.
	all := t.out.String()
	atom := all[from:]
	t.out.Reset()
	t.out.WriteString(all[:from])
	for left := low; left > 0; left -= mostRepeats {
		fmt.Fprintf(&t.out, "%s{%d}%s", atom, min(left, mostRepeats), lazy)
	}
	if unbounded {
		t.out.WriteString(atom + "*" + lazy)
		return nil
	}
	for left := high - low; left > 0; left -= mostRepeats {
		fmt.Fprintf(&t.out, "%s{0,%d}%s", atom, min(left, mostRepeats), lazy)
	}
	return nil
}

// group reads a group after its opening bracket.
func (t *translator) group() error {
	switch {
	case t.take("?:"):
		t.out.WriteString("(?:")
	case t.take("?="), t.take("?!"):
		return errors.New("it looks ahead (?=…), which this program cannot do")
	case t.take("?<="), t.take("?<!"):
		return errors.New("it looks back (?<=…), which this program cannot do")
	case t.take("?<"):
		end := strings.IndexByte(t.text[t.at:], '>')
		if end < 0 {
			return invalid("the name of a group is not closed by >")
		}
		name := t.text[t.at : t.at+end]
		if !groupName.MatchString(name) || t.groups[name] {
			return invalid("%q cannot be the name of a group", name)
		}
		t.groups[name] = true
		t.at += end + 1
		t.out.WriteString("(?:")
	case t.take("?"):
		return invalid("(? begins no group that there is")
	default:
		t.out.WriteString("(?:") // nobody asks what a group has matched
	}
	if err := t.alternatives(); err != nil {
		return err
	}
	if !t.take(")") {
		return invalid("a ( is not closed")
	}
	t.out.WriteByte(')')
	return nil
}

var groupName = regexp.MustCompile(`^[\pL_$][\pL\pN_$]*$`)

// class reads a set of characters after its opening bracket.
func (t *translator) class() error {
	var b strings.Builder
	negated := t.take("^")
	count := 0
	for {
		if t.at >= len(t.text) {
			return invalid("a [ is not closed")
		}
		if t.take("]") {
			break
		}
		count++
		low, err := t.classMember()
		if err != nil {
			return err
		}
		lowSet := t.set
		if !strings.HasPrefix(t.text[t.at:], "-") || strings.HasPrefix(t.text[t.at:], "-]") {
			b.WriteString(low)
			continue
		}
		t.at++
		high, err := t.classMember()
		if err != nil {
			return err
		}
		if lowSet || t.set {
			b.WriteString(low + `\-` + high) // a set is no end of a range
			continue
		}
		if _, err := regexp.Compile("[" + low + "-" + high + "]"); err != nil {
			return invalid("the range %s-%s is in the wrong order", low, high)
		}
		b.WriteString(low + "-" + high)
	}
	switch {
	case count == 0 && negated:
		t.out.WriteString(`[\x{0}-\x{10FFFF}]`)
	case count == 0:
		t.out.WriteString(`[^\x{0}-\x{10FFFF}]`)
	case negated:
		t.out.WriteString("[^" + b.String() + "]")
	default:
		t.out.WriteString("[" + b.String() + "]")
	}
	return nil
}

// classMember reads one character, or one set, in a set, and returns it as RE2 has it there.
func (t *translator) classMember() (string, error) {
	t.set = false
	if t.take(`\`) {
		return t.escape(true)
	}
	r, ok := t.next()
	if !ok {
		return "", invalid("a [ is not closed")
	}
	return inClass(r), nil
}

// inClass writes a character as RE2 has it in a set.
func inClass(r rune) string {
	if strings.ContainsRune(`\]^-[&~`, r) {
		return `\` + string(r)
	}
	return string(r)
}

// written writes a character as RE2 has it.
func written(r rune, class bool) string {
	if r < ' ' || r > '~' {
		return fmt.Sprintf(`\x{%X}`, r)
	}
	if class {
		return inClass(r)
	}
	return regexp.QuoteMeta(string(r))
}

// escape reads what is behind a backslash.
func (t *translator) escape(class bool) (string, error) {
	r, ok := t.next()
	if !ok {
		return "", invalid(`it ends in \`)
	}
	switch r {
	case 'd', 'D', 'w', 'W':
		t.set = true
		return `\` + string(r), nil
	case 's':
		t.set = true
		if class {
			return ecmaSpace, nil
		}
		return "[" + ecmaSpace + "]", nil
	case 'S':
		if class {
			return "", errors.New(`it has \S in a set, which this program cannot do`)
		}
		return "[^" + ecmaSpace + "]", nil
	case 't', 'n', 'f', 'r':
		return `\` + string(r), nil
	case 'v':
		return `\x0B`, nil
	case 'b':
		if class {
			return `\x08`, nil
		}
	case '0':
		if t.at >= len(t.text) || t.text[t.at] < '0' || t.text[t.at] > '9' {
			return `\x00`, nil
		}
		return "", invalid(`\0 cannot have digits after it`)
	case 'c':
		if letter, ok := t.next(); ok && (letter >= 'a' && letter <= 'z' || letter >= 'A' && letter <= 'Z') {
			return fmt.Sprintf(`\x%02X`, letter%32), nil
		}
		return "", invalid(`\c must have a letter after it`)
	case 'x':
		return t.character(2, class)
	case 'u':
		return t.unicode(class)
	case 'p', 'P':
		t.set = true
		return t.property(r)
	case 'k':
		return "", errors.New(`it refers back to a group (\k), which this program cannot do`)
	}
	switch {
	case r >= '1' && r <= '9':
		return "", errors.New("it refers back to a group (\\" + string(r) + "), which this program cannot do")
	case r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z':
		return "", invalid(`\%c has no meaning`, r)
	}
	return written(r, class), nil
}

// character reads a character by so many hexadecimal digits.
func (t *translator) character(digits int, class bool) (string, error) {
	if t.at+digits > len(t.text) {
		return "", invalid("an escape needs %d hexadecimal digits", digits)
	}
	code, err := strconv.ParseUint(t.text[t.at:t.at+digits], 16, 32)
	if err != nil {
		return "", invalid("an escape needs %d hexadecimal digits", digits)
	}
	t.at += digits
	return written(rune(code), class), nil
}

// unicode reads what is behind \u: four digits, twice four for characters above them, or any number in braces.
func (t *translator) unicode(class bool) (string, error) {
	if t.take("{") {
		end := strings.IndexByte(t.text[t.at:], '}')
		if end < 0 {
			return "", invalid(`\u{ is not closed`)
		}
		code, err := strconv.ParseUint(t.text[t.at:t.at+end], 16, 32)
		if err != nil || code > utf8.MaxRune {
			return "", invalid(`\u{%s} is not a character`, t.text[t.at:t.at+end])
		}
		t.at += end + 1
		return written(rune(code), class), nil
	}
	if rest := t.text[t.at:]; len(rest) >= 10 && rest[4:6] == `\u` {
		high, err1 := strconv.ParseUint(rest[:4], 16, 16)
		low, err2 := strconv.ParseUint(rest[6:10], 16, 16)
		if err1 == nil && err2 == nil && high >= 0xD800 && high < 0xDC00 && low >= 0xDC00 && low < 0xE000 {
			t.at += 10
			return written(rune(0x10000+(high-0xD800)<<10+(low-0xDC00)), class), nil
		}
	}
	return t.character(4, class)
}

// property reads a property of characters behind \p or \P.
func (t *translator) property(r rune) (string, error) {
	end := strings.IndexByte(t.text[t.at:], '}')
	if !t.take("{") || end < 0 {
		return "", invalid(`\%c must have {…} after it`, r)
	}
	name := t.text[t.at : t.at+end-1]
	t.at += end
	for _, kind := range []string{"Script=", "sc=", "General_Category=", "gc=", "Script_Extensions=", "scx="} {
		name = strings.TrimPrefix(name, kind)
	}
	if short, ok := categories[name]; ok {
		name = short
	}
	escaped := `\` + string(r) + "{" + name + "}"
	if _, err := regexp.Compile(escaped); err != nil {
		return "", fmt.Errorf("it asks for the property %s of characters, which this program does not know", name)
	}
	return escaped, nil
}

// categories are the long names of general categories (Unicode Standard, section 4.5).
var categories = map[string]string{
	"Letter": "L", "Lowercase_Letter": "Ll", "Uppercase_Letter": "Lu", "Titlecase_Letter": "Lt", "Modifier_Letter": "Lm",
	"Other_Letter": "Lo", "Mark": "M", "Nonspacing_Mark": "Mn", "Spacing_Mark": "Mc", "Enclosing_Mark": "Me",
	"Number": "N", "Decimal_Number": "Nd", "digit": "Nd", "Letter_Number": "Nl", "Other_Number": "No", "Punctuation": "P",
	"punct": "P", "Connector_Punctuation": "Pc", "Dash_Punctuation": "Pd", "Open_Punctuation": "Ps",
	"Close_Punctuation": "Pe", "Initial_Punctuation": "Pi", "Final_Punctuation": "Pf", "Other_Punctuation": "Po",
	"Symbol": "S", "Math_Symbol": "Sm", "Currency_Symbol": "Sc", "Modifier_Symbol": "Sk", "Other_Symbol": "So",
	"Separator": "Z", "Space_Separator": "Zs", "Line_Separator": "Zl", "Paragraph_Separator": "Zp", "Other": "C",
	"Control": "Cc", "cntrl": "Cc", "Format": "Cf", "Surrogate": "Cs", "Private_Use": "Co",
}

func isInvalid(err error) bool { return errors.Is(err, errInvalid) }
