package schema

import (
	"encoding/base64"
	"net"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/idna"
)

// format is what a format of JSON Schema 2020-12, Validation section 7.3, asks of a text.
type format struct {
	what  string // with an article
	holds func(text string) bool
}

// formats are those of all dialects, and those that OpenAPI 3.0 adds.
var formats = map[string]format{
	"date-time":             {"a date and time, such as 2026-03-31T06:30:00Z", isDateTime},
	"date":                  {"a date, such as 2026-03-31", isDate},
	"time":                  {"a time with its zone, such as 06:30:00Z", isTime},
	"duration":              {"a duration, such as PT1H30M", isDuration},
	"email":                 {"an e-mail address", func(s string) bool { return isEmail(s, false) }},
	"idn-email":             {"an e-mail address", func(s string) bool { return isEmail(s, true) }},
	"hostname":              {"a host name", isHostname},
	"idn-hostname":          {"a host name", isIDNHostname},
	"ipv4":                  {"an IPv4 address", isIPv4},
	"ipv6":                  {"an IPv6 address", isIPv6},
	"uri":                   {"a URI", func(s string) bool { return isURI(s, false, true) }},
	"uri-reference":         {"a URI reference", func(s string) bool { return isURI(s, false, false) }},
	"iri":                   {"an IRI", func(s string) bool { return isURI(s, true, true) }},
	"iri-reference":         {"an IRI reference", func(s string) bool { return isURI(s, true, false) }},
	"uri-template":          {"a URI template", isURITemplate},
	"uuid":                  {"a UUID", uuidForm.MatchString},
	"json-pointer":          {"a JSON Pointer", isJSONPointer},
	"relative-json-pointer": {"a relative JSON Pointer", isRelativePointer},
	"regex":                 {"a regular expression", isRegex},
}

// HasFormat reports whether a text has a format, which must be one of JSON Schema or of OpenAPI 3.0.
func HasFormat(text, name string) bool {
	f, known := formats[name]
	if !known {
		f = openAPIFormats[name]
	}
	return f.holds(text)
}

// openAPIFormats are those that servers hold objects of custom resource definitions to, beside some of formats.
var openAPIFormats = map[string]format{
	"byte":     {"data in base64", isBase64},
	"duration": {"a duration, such as 1h30m", isGoDuration},
	"datetime": formats["date-time"],
	"cidr":     {"an address range, such as 198.51.100.0/24", isCIDR},
	"mac":      {"a MAC address", isMAC},
	"hexcolor": {"a colour, such as #aa7733", regexp.MustCompile(`^#?([0-9a-fA-F]{3}|[0-9a-fA-F]{6})$`).MatchString},
}

// openAPIShared are the formats that are the same there.
var openAPIShared = map[string]bool{"date-time": true, "date": true, "email": true, "hostname": true, "ipv4": true,
	"ipv6": true, "uri": true, "uuid": true}

func isCIDR(s string) bool {
	_, err := netip.ParsePrefix(s)
	return err == nil
}

func isMAC(s string) bool {
	_, err := net.ParseMAC(s)
	return err == nil
}

func isBase64(s string) bool {
	_, err := base64.StdEncoding.DecodeString(s)
	return err == nil
}

func isGoDuration(s string) bool {
	_, err := time.ParseDuration(strings.ReplaceAll(s, " ", ""))
	return err == nil || wordyDuration.MatchString(s)
}

var wordyDuration = regexp.MustCompile(
	`^([0-9]+\s*(ns|us|µs|ms|s|sec|second|m|min|minute|h|hr|hour|d|day|w|week)s?\s*)+$`)

// formatsOf returns the formats of a dialect: older ones have fewer.
func formatsOf(name string, d *dialect) (format, bool) {
	if d.openAPI {
		if f, ok := openAPIFormats[name]; ok {
			return f, true
		}
		return formats[name], openAPIShared[name]
	}
	f, ok := formats[name]
	since, later := formatSince[name]
	return f, ok && (!later || d.version >= since)
}

var formatSince = map[string]int{
	"uri-reference": draft6, "uri-template": draft6, "json-pointer": draft6,
	"date": draft7, "time": draft7, "idn-email": draft7, "idn-hostname": draft7, "iri": draft7, "iri-reference": draft7,
	"relative-json-pointer": draft7, "regex": draft7, "duration": draft2019, "uuid": draft2019,
}

var (
	// RFC 3339 section 5.6 and appendix A.
	dateForm     = regexp.MustCompile(`^\d{4}-\d{2}-\d{2}$`)
	timeForm     = regexp.MustCompile(`^(\d{2}):(\d{2}):(\d{2})(\.\d+)?([zZ]|[+-](\d{2}):(\d{2}))$`)
	durationForm = regexp.MustCompile(
		`^P(\d+W|(\d+Y(\d+M(\d+D)?)?|\d+M(\d+D)?|\d+D)(T` + durationTime + `)?|T` + durationTime + `)$`)
	uuidForm = regexp.MustCompile(`^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$`)
)

const durationTime = `(\d+H(\d+M(\d+S)?)?|\d+M(\d+S)?|\d+S)`

func isDate(s string) bool {
	if !dateForm.MatchString(s) {
		return false
	}
	_, err := time.Parse(time.DateOnly, s)
	return err == nil
}

func isTime(s string) bool {
	parts := timeForm.FindStringSubmatch(s)
	if parts == nil {
		return false
	}
	number := func(i int) int {
		n, _ := strconv.Atoi(parts[i])
		return n
	}
	hour, minute, second := number(1), number(2), number(3)
	if hour > 23 || minute > 59 || second > 60 || number(6) > 23 || number(7) > 59 {
		return false
	}
	if second < 60 {
		return true
	}
	// A leap second is the last of a day in UTC.
	offset := number(6)*60 + number(7)
	if strings.HasPrefix(parts[5], "+") {
		offset = -offset
	}
	const day = 24 * 60
	return ((hour*60+minute+offset)%day+day)%day == day-1
}

func isDateTime(s string) bool {
	return len(s) > 11 && (s[10] == 'T' || s[10] == 't') && isDate(s[:10]) && isTime(s[11:])
}

func isDuration(s string) bool { return durationForm.MatchString(s) }

// isEmail is RFC 5321 section 4.1.2, with RFC 6531 for international ones.
func isEmail(s string, international bool) bool {
	at := strings.LastIndexByte(s, '@')
	if at < 1 {
		return false
	}
	local, domain := s[:at], s[at+1:]
	plain := func(r rune) bool {
		return r > ' ' && r <= '~' && !strings.ContainsRune(`()<>[]:;@\,"`, r) || international && r >= 0x80
	}
	if len(local) > 1 && local[0] == '"' && local[len(local)-1] == '"' {
		for i := 1; i < len(local)-1; i++ {
			switch c := local[i]; {
			case c == '\\':
				if i++; i == len(local)-1 {
					return false
				}
			case c == '"', c < ' ', c >= 0x7F && !international:
				return false
			}
		}
	} else {
		for _, part := range strings.Split(local, ".") {
			if part == "" || strings.ContainsFunc(part, func(r rune) bool { return !plain(r) }) {
				return false
			}
		}
	}
	if inner, ok := strings.CutPrefix(domain, "["); ok {
		inner, closed := strings.CutSuffix(inner, "]")
		if v6, is := strings.CutPrefix(inner, "IPv6:"); is {
			return closed && isIPv6(v6)
		}
		return closed && isIPv4(inner)
	}
	return isHostname(domain) || international && isIDNHostname(domain)
}

func isIPv4(s string) bool {
	a, err := netip.ParseAddr(s)
	return err == nil && a.Is4()
}

func isIPv6(s string) bool {
	a, err := netip.ParseAddr(s)
	return err == nil && a.Is6() && a.Zone() == ""
}

// isHostname is RFC 1123 section 2.1; a label that is Punycode must be that of RFC 5891.
func isHostname(s string) bool {
	if s == "" || len(s) > 253 {
		return false
	}
	for _, label := range strings.Split(s, ".") {
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' {
			return false
		}
		for i := 0; i < len(label); i++ {
			c := label[i]
			if c != '-' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
				return false
			}
		}
		if len(label) >= 4 && label[2:4] == "--" {
			if !strings.EqualFold(label[:2], "xn") || !isALabel(label) {
				return false
			}
		}
	}
	return true
}

// isALabel reports whether a label in Punycode stands for one that may be (RFC 5890 section 2.3.2.1).
func isALabel(label string) bool {
	unicode, err := idna.Registration.ToUnicode(strings.ToLower(label))
	return err == nil && isULabel(unicode)
}

// isIDNHostname is RFC 5890 section 2.3.2.3.
func isIDNHostname(s string) bool {
	s = strings.NewReplacer("\u3002", ".", "\uFF0E", ".", "\uFF61", ".").Replace(s)
	ascii := make([]string, 0, 4)
	if s == "" {
		return false
	}
	for _, label := range strings.Split(s, ".") {
		if isASCII(label) {
			if !isHostname(label) {
				return false
			}
			ascii = append(ascii, label)
			continue
		}
		if !isULabel(label) {
			return false
		}
		written, err := idna.Registration.ToASCII(label)
		if err != nil || len(written) > 63 {
			return false
		}
		ascii = append(ascii, written)
	}
	return len(strings.Join(ascii, ".")) <= 253
}

func isASCII(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// isULabel holds what RFC 5892 asks of a label in its context; the library looks at the rest.
func isULabel(label string) bool {
	letters := []rune(label)
	if label == "" || letters[0] == '-' || letters[len(letters)-1] == '-' ||
		len(letters) > 3 && letters[2] == '-' && letters[3] == '-' {
		return false
	}
	if _, err := idna.Registration.ToASCII(label); err != nil {
		return false
	}
	arabic, extended, katakana := false, false, false
	for i, r := range letters {
		before, after := rune(0), rune(0)
		if i > 0 {
			before = letters[i-1]
		}
		if i+1 < len(letters) {
			after = letters[i+1]
		}
		switch {
		case r == 0xB7 && (before != 'l' || after != 'l'), // appendix A.3
			r == 0x375 && !isGreek(after),                   // A.4
			(r == 0x5F3 || r == 0x5F4) && !isHebrew(before): // A.5 and A.6
			return false
		case r == 0x302E, r == 0x302F, r == 0x640, r == 0x7FA, r >= 0x3031 && r <= 0x3035, r == 0x303B:
			return false // section 2.6
		case r >= 0x660 && r <= 0x669:
			arabic = true
		case r >= 0x6F0 && r <= 0x6F9:
			extended = true
		}
		katakana = katakana || isJapanese(r)
	}
	if strings.ContainsRune(label, 0x30FB) && !katakana { // A.7
		return false
	}
	return !arabic || !extended // A.8 and A.9
}

// uri are the characters that stand for themselves in a URI (RFC 3986 section 2).
const (
	uriUnreserved = "-._~"
	uriSubDelims  = "!$&'()*+,;="
)

// isURI is RFC 3986 appendix A, RFC 3987 section 2.2 for international ones; absolute asks for a scheme.
func isURI(s string, international, absolute bool) bool {
	allowed := func(text, more string) bool {
		for i := 0; i < len(text); {
			r, size := utf8.DecodeRuneInString(text[i:])
			switch {
			case r == '%':
				if i+2 >= len(text) || !isHex(text[i+1]) || !isHex(text[i+2]) {
					return false
				}
				size = 3
			case r >= 0x80:
				if !international || !isIRICharacter(r) {
					return false
				}
			case r >= '0' && r <= '9', r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z':
			case !strings.ContainsRune(uriUnreserved+uriSubDelims+more, r):
				return false
			}
			i += size
		}
		return true
	}
	rest, fragment, has := strings.Cut(s, "#")
	if has && !allowed(fragment, ":@/?") {
		return false
	}
	rest, query, has := strings.Cut(rest, "?")
	if has && !allowed(query, ":@/?") {
		return false
	}
	hasScheme := false
	if at := strings.IndexByte(rest, ':'); at >= 0 && !strings.Contains(rest[:at], "/") {
		if hasScheme = schemeForm.MatchString(rest[:at]); !hasScheme {
			return false
		}
		rest = rest[at+1:]
	}
	if absolute && !hasScheme {
		return false
	}
	if authority, ok := strings.CutPrefix(rest, "//"); ok {
		path := ""
		if at := strings.IndexByte(authority, '/'); at >= 0 {
			authority, path = authority[:at], authority[at:]
		}
		if at := strings.LastIndexByte(authority, '@'); at >= 0 {
			if !allowed(authority[:at], ":") {
				return false
			}
			authority = authority[at+1:]
		}
		host, port := authority, ""
		if literal, ok := strings.CutPrefix(authority, "["); ok {
			end := strings.IndexByte(literal, ']')
			if end < 0 || !isIPv6(literal[:end]) && !ipFuture.MatchString(literal[:end]) {
				return false
			}
			host, port = "", literal[end+1:]
			if port != "" && port[0] != ':' {
				return false
			}
			port = strings.TrimPrefix(port, ":")
		} else if at := strings.LastIndexByte(authority, ':'); at >= 0 {
			host, port = authority[:at], authority[at+1:]
		}
		return allowed(host, "") && strings.Trim(port, "0123456789") == "" && allowed(path, ":@/")
	}
	return allowed(rest, ":@/")
}

var (
	schemeForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9+.-]*$`)
	ipFuture   = regexp.MustCompile(`^[vV][0-9a-fA-F]+\.[A-Za-z0-9._~!$&'()*+,;=:-]+$`)
)

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

// isIRICharacter is ucschar and iprivate of RFC 3987 section 2.2.
func isIRICharacter(r rune) bool {
	switch {
	case r < 0xA0, r > 0xD7FF && r < 0xE000, r >= 0xFDD0 && r < 0xFDF0, r&0xFFFE == 0xFFFE, r >= 0xFFF0 && r <= 0xFFFF:
		return false
	}
	return true
}

// isURITemplate is RFC 6570 section 2.
func isURITemplate(s string) bool {
	for {
		begin := strings.IndexAny(s, "{}")
		literal := s
		if begin >= 0 {
			literal = s[:begin]
		}
		if strings.ContainsAny(literal, "\"'<>\\^`| ") ||
			strings.ContainsFunc(literal, func(r rune) bool { return r < ' ' }) {
			return false
		}
		if begin < 0 {
			return true
		}
		end := strings.IndexByte(s[begin:], '}')
		if s[begin] == '}' || end < 0 || !templateForm.MatchString(s[begin+1:begin+end]) {
			return false
		}
		s = s[begin+end+1:]
	}
}

const templateName = `([A-Za-z0-9_]|%[0-9A-Fa-f]{2})(\.?([A-Za-z0-9_]|%[0-9A-Fa-f]{2}))*(:[1-9][0-9]{0,3}|\*)?`

var templateForm = regexp.MustCompile(`^[+#./;?&=,!@|]?` + templateName + `(,` + templateName + `)*$`)

// isJSONPointer is RFC 6901 section 3.
func isJSONPointer(s string) bool {
	if s == "" {
		return true
	}
	if s[0] != '/' {
		return false
	}
	for i := 0; i < len(s); i++ {
		if s[i] == '~' && (i+1 == len(s) || s[i+1] != '0' && s[i+1] != '1') {
			return false
		}
	}
	return true
}

var relativeForm = regexp.MustCompile(`^(0|[1-9][0-9]*)(#$|/|$)`)

func isRelativePointer(s string) bool {
	found := relativeForm.FindString(s)
	return found != "" && (strings.HasSuffix(found, "#") || isJSONPointer(strings.TrimLeft(s, "0123456789")))
}

func isRegex(s string) bool {
	_, err := translate(s)
	return !isInvalid(err)
}

func isGreek(r rune) bool  { return unicode.Is(unicode.Greek, r) }
func isHebrew(r rune) bool { return unicode.Is(unicode.Hebrew, r) }

func isJapanese(r rune) bool {
	return r != 0x30FB && unicode.In(r, unicode.Hiragana, unicode.Katakana, unicode.Han)
}
