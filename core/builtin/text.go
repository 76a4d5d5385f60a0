package builtin

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/value"
)

var textFunctions = []*Function{
	{Builtin: check.Builtin{Group: "text",
		Signature: "length(s: string) -> int"}, Description: "The number of code points.",
		Example: `text.length("tide")`, Result: `4`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			c.Spend(len(a[0].Text()) / 8)
			return number(c, utf8.RuneCountInString(a[0].Text()))
		}},
	{Builtin: check.Builtin{Group: "text",
		Signature: "upper(s: string) -> string"}, Description: "The string in upper case.",
		Example: `text.upper("pier")`, Result: `"PIER"`, call: textual(strings.ToUpper)},
	{Builtin: check.Builtin{Group: "text",
		Signature: "lower(s: string) -> string"}, Description: "The string in lower case.",
		Example: `text.lower("PIER")`, Result: `"pier"`, call: textual(strings.ToLower)},
	{Builtin: check.Builtin{Group: "text", Handling: check.Joins, Signature: "trim(s: string) -> string"},
		Description: "The string without white space at both ends.",
		Example:     `text.trim("  ebb ")`, Result: `"ebb"`, call: textual(strings.TrimSpace)},
	{Builtin: check.Builtin{Group: "text", Signature: "trim_prefix(s: string, prefix: string) -> string"},
		Description: "The string without the prefix, if it begins with it.",
		Example:     `text.trim_prefix("siren-router", "siren-")`, Result: `"router"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			return text(c, strings.TrimPrefix(a[0].Text(), a[1].Text()))
		}},
	{Builtin: check.Builtin{Group: "text", Signature: "trim_suffix(s: string, suffix: string) -> string"},
		Description: "The string without the suffix, if it ends with it.",
		Example:     `text.trim_suffix("map.example", ".example")`, Result: `"map"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			return text(c, strings.TrimSuffix(a[0].Text(), a[1].Text()))
		}},
	{Builtin: check.Builtin{Group: "text", Signature: "split(s: string, separator: string) -> [string]"},
		Description: "The parts of a string between separators.",
		Example:     `text.split("north,south", ",")`, Result: `["north","south"]`, Errors: "The separator is empty.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			if a[1].Text() == "" {
				c.Fail(1, `give the separator, such as ","`, "the separator is empty")
			}
			return texts(c, strings.Split(a[0].Text(), a[1].Text()))
		}},
	{Builtin: check.Builtin{Group: "text", Handling: check.Joins,
		Signature: "join(xs: [string], separator: string) -> string"},
		Description: "The strings joined, with the separator between them.",
		Example:     `text.join(["north", "south"], ", ")`, Result: `"north, south"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			var b strings.Builder
			for i, x := range a[0].Elements() {
				if i > 0 {
					b.WriteString(a[1].Text())
				}
				c.Spend(1 + len(x.Text()) + len(a[1].Text()))
				b.WriteString(x.Text())
			}
			return value.StringOf(b.String(), c.Origin())
		}},
	{Builtin: check.Builtin{Group: "text", Signature: "lines(s: string) -> [string]"},
		Description: "The lines of a string, without their ends; the end of the last line begins no other.",
		Example:     `text.lines("ebb\nflood\n")`, Result: `["ebb","flood"]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			s := strings.ReplaceAll(a[0].Text(), "\r\n", "\n")
			if s == "" {
				return list(c, nil)
			}
			return texts(c, strings.Split(strings.TrimSuffix(s, "\n"), "\n"))
		}},
	{Builtin: check.Builtin{Group: "text", Signature: "replace(s: string, old: string, new: string) -> string"},
		Description: "The string with every occurrence of old replaced by new.",
		Example:     `text.replace("pier 4", " ", "-")`, Result: `"pier-4"`, Errors: "The old string is empty.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			s, old, new := a[0].Text(), a[1].Text(), a[2].Text()
			if old == "" {
				c.Fail(1, "give the string to be replaced", "the string to replace is empty")
			}
			c.Spend(len(s) + strings.Count(s, old)*len(new))
			return value.StringOf(strings.ReplaceAll(s, old, new), c.Origin())
		}},
	{Builtin: check.Builtin{Group: "text", Signature: "replace_found(s: string, old: string, new: string) -> string"},
		Description: "The string with every occurrence of old replaced by new; there must be one.",
		Example:     `text.replace_found("telemetry = on", "on", "off")`, Result: `"telemetry = off"`,
		Errors: "The old string is empty, or not there.",
		call:   func(c *eval.Call, a []value.Value) value.Value { return replaceStrictly(c, a, false) }},
	{Builtin: check.Builtin{Group: "text", Signature: "replace_once(s: string, old: string, new: string) -> string"},
		Description: "The string with the only occurrence of old replaced by new.",
		Example:     `text.replace_once("port = 80", "80", "8080")`, Result: `"port = 8080"`,
		Errors: "The old string is empty, not there, or there more than once.",
		call:   func(c *eval.Call, a []value.Value) value.Value { return replaceStrictly(c, a, true) }},
	{Builtin: check.Builtin{Group: "text", Pattern: "pattern",
		Signature: "replace_pattern(s: string, pattern: string, new: string) -> string"},
		Description: "The string with every match of the pattern (RE2) replaced; $1 or ${1} in new is replaced by the " +
			"first group, $0 for the match, $$ for a dollar sign.",
		Example: `text.replace_pattern("pier-4", '([a-z]+)-([0-9]+)', '$2 $1')`, Result: `"4 pier"`,
		Errors: "The pattern is wrong, or new names a group that it has not.",
		call:   replacePattern},
	{Builtin: check.Builtin{Group: "text", Pattern: "pattern",
		Signature: "find(s: string, pattern: string) -> [string]?"},
		Description: "The first match of the pattern (RE2) and its groups; null when there is none.",
		Example:     `text.find("gauge-17", '([a-z]+)-([0-9]+)')`, Result: `["gauge-17","gauge","17"]`,
		Errors: "The pattern is wrong.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			pattern := c.Pattern(1, a[1].Text())
			c.SpendPattern(pattern, len(a[0].Text()))
			match := pattern.FindStringSubmatch(a[0].Text())
			if match == nil {
				return value.NullOf(c.Origin())
			}
			return texts(c, match)
		}},
	{Builtin: check.Builtin{Group: "text", Pattern: "pattern",
		Signature: "find_all(s: string, pattern: string) -> [[string]]"},
		Description: "All matches of the pattern (RE2), each with its groups.",
		Example:     `text.find_all("a1 b2", '([a-z])[0-9]')`, Result: `[["a1","a"],["b2","b"]]`,
		Errors: "The pattern is wrong.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			pattern := c.Pattern(1, a[1].Text())
			c.SpendPattern(pattern, len(a[0].Text()))
			var all []value.Value
			for _, match := range pattern.FindAllStringSubmatch(a[0].Text(), -1) {
				all = append(all, texts(c, match))
			}
			return list(c, all)
		}},
	{Builtin: check.Builtin{Group: "text", Signature: "starts(s: string, prefix: string) -> bool"},
		Description: "Whether the string begins with the prefix.",
		Example:     `text.starts("siren-router", "siren")`, Result: `true`, call: asks(strings.HasPrefix)},
	{Builtin: check.Builtin{Group: "text", Signature: "ends(s: string, suffix: string) -> bool"},
		Description: "Whether the string ends with the suffix.",
		Example:     `text.ends("map.example", ".example")`, Result: `true`, call: asks(strings.HasSuffix)},
	{Builtin: check.Builtin{Group: "text", Signature: "contains(s: string, part: string) -> bool"},
		Description: "Whether the part occurs in the string.",
		Example:     `text.contains("gauge-intake", "intake")`, Result: `true`, call: asks(strings.Contains)},
	{Builtin: check.Builtin{Group: "text", Signature: `pad_left(s: string, width: int, fill: string = " ") -> string`},
		Description: "The string with fill added before it until it has width code points.",
		Example:     `text.pad_left("7", 3, "0")`, Result: `"007"`, Errors: "The fill is not one code point.",
		call: func(c *eval.Call, a []value.Value) value.Value { return text(c, padding(c, a)+a[0].Text()) }},
	{Builtin: check.Builtin{Group: "text", Signature: `pad_right(s: string, width: int, fill: string = " ") -> string`},
		Description: "The string with fill added after it until it has width code points.",
		Example:     `text.pad_right("ebb", 5, ".")`, Result: `"ebb.."`, Errors: "The fill is not one code point.",
		call: func(c *eval.Call, a []value.Value) value.Value { return text(c, a[0].Text()+padding(c, a)) }},
	{Builtin: check.Builtin{Group: "text", Handling: check.Joins, Signature: "repeat(s: string, times: int) -> string"},
		Description: "The string repeated times times.",
		Example:     `text.repeat("=-", 3)`, Result: `"=-=-=-"`, Errors: "The number is negative.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			return value.StringOf(strings.Repeat(a[0].Text(), times(c, a[1], len(a[0].Text()))), c.Origin())
		}},
	{Builtin: check.Builtin{Group: "text", Signature: "slice(s: string, start: int, stop: int? = null) -> string"},
		Description: "The code points from start up to, not including, stop; negative positions count from the end.",
		Example:     `text.slice("harbour", 1, -2)`, Result: `"arbo"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			c.Spend(len(a[0].Text()))
			runes := []rune(a[0].Text())
			from, to := span(len(runes), a[1], a[2])
			return text(c, string(runes[from:to]))
		}},
	{Builtin: check.Builtin{Group: "text", Handling: check.Joins,
		Signature: "indent(s: string, prefix: string) -> string"},
		Description: "The string with the prefix before every line that is not empty.",
		Example:     `text.indent("ebb\nflood", "  ")`, Result: `"  ebb\n  flood"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			lines := strings.Split(a[0].Text(), "\n")
			c.Spend(len(a[0].Text()) + len(lines)*len(a[1].Text()))
			for i, line := range lines {
				if line != "" {
					lines[i] = a[1].Text() + line
				}
			}
			return value.StringOf(strings.Join(lines, "\n"), c.Origin())
		}},
	{Builtin: check.Builtin{Group: "text", Handling: check.Joins, Signature: "dedent(s: string) -> string"},
		Description: "The string without the white space with which all its lines begin; empty lines do not count.",
		Example:     `text.dedent("  ebb\n    flood")`, Result: `"ebb\n  flood"`, call: textual(dedent)},
	{Builtin: check.Builtin{Group: "text", Handling: check.Joins, Signature: "quote_shell(s: string) -> string"},
		Description: "The string as one word for a POSIX shell.",
		Example:     `text.quote_shell("high tide")`, Result: `"'high tide'"`, call: textual(quoteShell)},
	{Builtin: check.Builtin{Group: "text", Signature: "camel(s: string) -> string"},
		Description: "The words of the string joined, each but the first with a capital.",
		Example:     `text.camel("gauge-feed id")`, Result: `"gaugeFeedId"`, call: textual(func(s string) string {
			words := wordsOf(s)
			for i, w := range words {
				if i > 0 {
					r, size := utf8.DecodeRuneInString(w)
					words[i] = string(unicode.ToUpper(r)) + w[size:]
				}
			}
			return strings.Join(words, "")
		})},
	{Builtin: check.Builtin{Group: "text", Signature: "snake(s: string) -> string"},
		Description: "The words of the string in lower case, joined with _.",
		Example:     `text.snake("gaugeFeed id")`, Result: `"gauge_feed_id"`,
		call: textual(func(s string) string { return strings.Join(wordsOf(s), "_") })},
	{Builtin: check.Builtin{Group: "text", Signature: "kebab(s: string) -> string"},
		Description: "The words of the string in lower case, joined with -.",
		Example:     `text.kebab("GaugeFeed")`, Result: `"gauge-feed"`,
		call: textual(func(s string) string { return strings.Join(wordsOf(s), "-") })},
}

// times checks how often something of a size is to be repeated and counts the work before it is done.
func times(c *eval.Call, n value.Value, size int) int {
	if n.Int() < 0 {
		c.Fail(1, "", "cannot repeat "+n.Show(20)+" times")
	}
	const enough = 1 << 30
	c.Spend(int(min(n.Int(), enough)) * max(1, size)) // a text has less than 1<<31 bytes
	return int(n.Int())
}

func padding(c *eval.Call, a []value.Value) string {
	if utf8.RuneCountInString(a[2].Text()) != 1 {
		c.Fail(2, `one character, such as "0"`, "the fill "+a[2].Show(20)+" is not one code point")
	}
	missing := a[1].Int() - int64(utf8.RuneCountInString(a[0].Text()))
	if missing <= 0 {
		return ""
	}
	return strings.Repeat(a[2].Text(), times(c, value.IntOf(missing, 0), len(a[2].Text())))
}

func dedent(s string) string {
	lines := strings.Split(s, "\n")
	margin, found := "", false
	for _, line := range lines {
		if strings.TrimSpace(line) == "" {
			continue
		}
		indent := line[:len(line)-len(strings.TrimLeft(line, " \t"))]
		if !found {
			margin, found = indent, true
		}
		for !strings.HasPrefix(indent, margin) {
			margin = margin[:len(margin)-1]
		}
	}
	for i, line := range lines {
		if strings.TrimSpace(line) == "" {
			lines[i] = ""
		} else {
			lines[i] = strings.TrimPrefix(line, margin)
		}
	}
	return strings.Join(lines, "\n")
}

// quoteShell puts a text in single quotes where a POSIX shell would not take it as one word that it leaves as it is
// (POSIX.1-2017, Shell Command Language, section 2.2).
func quoteShell(s string) string {
	plain := func(r rune) bool {
		return r < utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsDigit(r)) || strings.ContainsRune("_-./:,+@%", r)
	}
	if s != "" && !slices.ContainsFunc([]rune(s), func(r rune) bool { return !plain(r) }) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// wordsOf cuts a text into its words, in lower case: at everything that is neither letter nor digit, and where a
// capital follows a small letter or digit, or begins a word behind capitals.
func wordsOf(s string) []string {
	var words []string
	var word []rune
	flush := func() {
		if len(word) > 0 {
			words = append(words, strings.ToLower(string(word)))
			word = nil
		}
	}
	runes := []rune(s)
	for i, r := range runes {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			flush()
			continue
		}
		if unicode.IsUpper(r) && len(word) > 0 {
			before := word[len(word)-1]
			if !unicode.IsUpper(before) || i+1 < len(runes) && unicode.IsLower(runes[i+1]) {
				flush()
			}
		}
		word = append(word, r)
	}
	flush()
	return words
}

// replaceStrictly replaces a text that must be there.
func replaceStrictly(c *eval.Call, a []value.Value, once bool) value.Value {
	s, old, new := a[0].Text(), a[1].Text(), a[2].Text()
	if old == "" {
		c.Fail(1, "give the string to be replaced", "the string to replace is empty")
	}
	n := strings.Count(s, old)
	switch {
	case n == 0:
		c.Fail(1, "text.replace leaves a string as it is when there is nothing to replace",
			a[1].Show(60)+" does not occur in the string")
	case once && n > 1:
		c.Fail(1, "give more of the string around it; text.replace_found replaces all of them",
			a[1].Show(60)+" occurs in the string "+strconv.Itoa(n)+" times")
	}
	c.Spend(len(s) + n*len(new))
	return value.StringOf(strings.ReplaceAll(s, old, new), c.Origin())
}

// groupReference is what stands for a group in what replaces a match: digits alone, or a number or name in braces.
var groupReference = regexp.MustCompile(`\$(?:\$|([0-9]+)|\{([0-9A-Za-z_]+)\})`)

func replacePattern(c *eval.Call, a []value.Value) value.Value {
	s, new := a[0].Text(), a[2].Text()
	pattern := c.Pattern(1, a[1].Text())
	c.SpendPattern(pattern, len(s))
	// The library takes letters and digits after a dollar sign together: each reference is written in its
	// unambiguous form.
	template := groupReference.ReplaceAllStringFunc(new, func(reference string) string {
		name := strings.Trim(reference, "${}")
		if name == "" {
			return reference
		}
		known := slices.Contains(pattern.SubexpNames()[1:], name)
		if number, err := strconv.Atoi(name); err == nil {
			known = number <= pattern.NumSubexp()
		}
		if !known {
			c.Fail(2, "the pattern has "+strconv.Itoa(pattern.NumSubexp())+" groups; a dollar sign is written $$",
				"there is no group "+reference)
		}
		return "${" + name + "}"
	})
	for i := 0; i < len(template); i++ { // a dollar sign that refers to nothing stands for itself
		if template[i] != '$' {
			continue
		}
		if at := groupReference.FindStringIndex(template[i:]); at != nil && at[0] == 0 {
			i += at[1] - 1
		} else {
			template = template[:i] + "$" + template[i:]
			i++
		}
	}
	result := pattern.ReplaceAllString(s, template)
	c.Spend(len(result))
	return value.StringOf(result, c.Origin())
}
