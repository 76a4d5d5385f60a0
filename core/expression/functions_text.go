package expression

import (
	"cmp"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"knothole/core/schema"
)

// Forms of texts, and versions, as rules of custom resource definitions ask for them.

// formValue is a form that texts may have.
type formValue struct {
	name  string
	holds func(text string) bool
	what  string
}

var formKind = cel.ObjectType("Format")

// matching is a form of texts that match a pattern and are not too long.
func matching(name, pattern string, most int, what string) formValue {
	re := regexp.MustCompile("^(?:" + pattern + ")$")
	return formValue{name, func(text string) bool { return len(text) <= most && re.MatchString(text) }, what}
}

const (
	label     = `[a-z0-9]([-a-z0-9]*[a-z0-9])?`
	qualified = `([A-Za-z0-9][-A-Za-z0-9_.]*)?[A-Za-z0-9]`
	longest   = 1 << 20
)

var (
	subdomain = matching("dns1123Subdomain", label+`(\.`+label+`)*`, 253,
		"a DNS subdomain (RFC 1123): labels joined by points")
	qualifiedForm = matching("", qualified, 63, "")
)

// forms are those that format.named knows.
var forms = []formValue{
	matching("dns1123Label", label, 63, "a DNS label (RFC 1123): lower-case letters, digits and -, at most 63"),
	subdomain,
	matching("dns1035Label", `[a-z]([-a-z0-9]*[a-z0-9])?`, 63, "a DNS label (RFC 1035): it begins with a letter"),
	matching("dns1123LabelPrefix", label+`-?`, 63, "the beginning of a DNS label (RFC 1123)"),
	matching("dns1123SubdomainPrefix", label+`(\.`+label+`)*[-.]?`, 253, "the beginning of a DNS subdomain (RFC 1123)"),
	matching("dns1035LabelPrefix", `[a-z]([-a-z0-9]*[a-z0-9])?-?`, 63, "the beginning of a DNS label (RFC 1035)"),
	{"qualifiedName", isQualifiedName,
		"a name of letters, digits, -, _ and ., perhaps after a DNS subdomain and a slash"},
	matching("labelValue", `(`+qualified+`)?`, 63, "the value of a label: letters, digits, -, _ and ., at most 63"),
	{"uri", func(text string) bool { return !types.IsError(toURL(types.String(text))) },
		"a URI, or a path from the root"},
	matching("uuid", `(?i)[0-9a-f]{8}-?[0-9a-f]{4}-?[0-9a-f]{4}-?[0-9a-f]{4}-?[0-9a-f]{12}`, longest, "a UUID"),
	{"byte", hasFormat("byte"), "base64"},
	{"date", hasFormat("date"), "a date, such as 2026-03-31"},
	{"datetime", hasFormat("date-time"), "a date and time, such as 2026-03-31T06:30:00Z"},
}

func hasFormat(name string) func(text string) bool {
	return func(text string) bool { return schema.HasFormat(text, name) }
}

func isQualifiedName(text string) bool {
	if prefix, name, ok := strings.Cut(text, "/"); ok {
		return subdomain.holds(prefix) && qualifiedForm.holds(name)
	}
	return qualifiedForm.holds(text)
}

func formatFunctions() []cel.EnvOption {
	options := []cel.EnvOption{
		cel.Function("format.named", cel.Overload("format_named", []*cel.Type{cel.StringType},
			cel.OptionalType(formKind), cel.UnaryBinding(func(v ref.Val) ref.Val {
				at := slices.IndexFunc(forms, func(f formValue) bool { return f.name == string(v.(types.String)) })
				if at < 0 {
					return types.OptionalNone
				}
				return types.OptionalOf(forms[at])
			}))),
		cel.Function("validate", cel.MemberOverload("format_validate", []*cel.Type{formKind, cel.StringType},
			cel.OptionalType(cel.ListType(cel.StringType)), cel.BinaryBinding(func(f, v ref.Val) ref.Val {
				form := f.(formValue)
				if form.holds(string(v.(types.String))) {
					return types.OptionalNone
				}
				return types.OptionalOf(types.DefaultTypeAdapter.NativeToValue([]string{"expected " + form.what}))
			}))),
	}
	for _, form := range forms {
		options = append(options, cel.Function("format."+form.name, cel.Overload("format_"+form.name, nil, formKind,
			cel.FunctionBinding(func(...ref.Val) ref.Val { return form }))))
	}
	return options
}

// ConvertToNative, ConvertToType, Equal, Type and Value make it a value of the library.
func (f formValue) ConvertToNative(reflect.Type) (any, error) { return f.name, nil }

// ConvertToType converts it.
func (f formValue) ConvertToType(t ref.Type) ref.Val {
	return types.NewErr("a format is not a %s", t.TypeName())
}

// Equal compares it.
func (f formValue) Equal(other ref.Val) ref.Val {
	o, ok := other.(formValue)
	return types.Bool(ok && f.name == o.name)
}

// Type is its type.
func (f formValue) Type() ref.Type { return formKind }

// Value is what it holds.
func (f formValue) Value() any { return f.name }

// versionValue is a version (Semantic Versioning 2.0.0).
type versionValue struct {
	text       string
	numbers    [3]uint64
	prerelease []string
}

var (
	versionKind = cel.ObjectType("Semver")
	versionForm = regexp.MustCompile(`^(0|[1-9][0-9]*)\.(0|[1-9][0-9]*)\.(0|[1-9][0-9]*)` +
		`(?:-((?:0|[1-9][0-9]*|[0-9]*[A-Za-z-][0-9A-Za-z-]*)(?:\.(?:0|[1-9][0-9]*|[0-9]*[A-Za-z-][0-9A-Za-z-]*))*))?` +
		`(?:\+[0-9A-Za-z-]+(?:\.[0-9A-Za-z-]+)*)?$`)
	looseVersion = regexp.MustCompile(`^v?0*([0-9]+)(?:\.0*([0-9]+))?(?:\.0*([0-9]+))?([-+].*)?$`)
)

// toVersion reads a version. A lenient one may begin with v, lack its last numbers, and have leading zeros.
func toVersion(v, lenient ref.Val) ref.Val {
	text := string(v.(types.String))
	if lenient == types.True {
		if parts := looseVersion.FindStringSubmatch(text); parts != nil {
			text = parts[1] + "." + cmp.Or(parts[2], "0") + "." + cmp.Or(parts[3], "0") + parts[4]
		}
	}
	parts := versionForm.FindStringSubmatch(text)
	if parts == nil {
		return types.NewErr("%q is not a version", string(v.(types.String)))
	}
	version := versionValue{text: text}
	for i := range version.numbers {
		n, err := strconv.ParseUint(parts[1+i], 10, 63)
		if err != nil {
			return types.NewErr("%q is not a version", string(v.(types.String)))
		}
		version.numbers[i] = n
	}
	if parts[4] != "" {
		version.prerelease = strings.Split(parts[4], ".")
	}
	return version
}

// compare says which of two versions comes first (Semantic Versioning 2.0.0, section 11).
func (v versionValue) compare(w versionValue) int {
	if n := slices.Compare(v.numbers[:], w.numbers[:]); n != 0 {
		return n
	}
	if len(v.prerelease) == 0 || len(w.prerelease) == 0 {
		return cmp.Compare(len(w.prerelease), len(v.prerelease))
	}
	return slices.CompareFunc(v.prerelease, w.prerelease, func(a, b string) int {
		m, notA := strconv.ParseUint(a, 10, 64)
		n, notB := strconv.ParseUint(b, 10, 64)
		switch {
		case notA == nil && notB == nil:
			return cmp.Compare(m, n)
		case notA == nil:
			return -1
		case notB == nil:
			return 1
		}
		return cmp.Compare(a, b)
	})
}

func versionFunctions() []cel.EnvOption {
	text, version := cel.StringType, versionKind
	number := func(name string, i int) cel.EnvOption {
		return cel.Function(name, cel.MemberOverload("semver_"+name, []*cel.Type{version}, cel.IntType,
			cel.UnaryBinding(func(v ref.Val) ref.Val { return types.Int(v.(versionValue).numbers[i]) })))
	}
	order := func(name string, gives *cel.Type, f func(n int) ref.Val) cel.EnvOption {
		return cel.Function(name, cel.MemberOverload("semver_"+name, []*cel.Type{version, version}, gives,
			cel.BinaryBinding(func(a, b ref.Val) ref.Val { return f(a.(versionValue).compare(b.(versionValue))) })))
	}
	read := func(name string, gives *cel.Type, f func(v ref.Val) ref.Val) cel.EnvOption {
		return cel.Function(name,
			cel.Overload(name+"_text", []*cel.Type{text}, gives, cel.UnaryBinding(func(v ref.Val) ref.Val {
				return f(toVersion(v, types.False))
			})),
			cel.Overload(name+"_text_lenient", []*cel.Type{text, cel.BoolType}, gives, cel.BinaryBinding(
				func(v, lenient ref.Val) ref.Val { return f(toVersion(v, lenient)) })))
	}
	return []cel.EnvOption{
		read("semver", version, func(v ref.Val) ref.Val { return v }),
		read("isSemver", cel.BoolType, func(v ref.Val) ref.Val { return types.Bool(!types.IsError(v)) }),
		number("major", 0), number("minor", 1), number("patch", 2),
		order("isLessThan", cel.BoolType, func(n int) ref.Val { return types.Bool(n < 0) }),
		order("isGreaterThan", cel.BoolType, func(n int) ref.Val { return types.Bool(n > 0) }),
		order("compareTo", cel.IntType, func(n int) ref.Val { return types.Int(n) }),
	}
}

// ConvertToNative, ConvertToType, Equal, Type and Value make it a value of the library.
func (v versionValue) ConvertToNative(reflect.Type) (any, error) { return v.text, nil }

// ConvertToType converts it.
func (v versionValue) ConvertToType(t ref.Type) ref.Val {
	if t.TypeName() == types.StringType.TypeName() {
		return types.String(v.text)
	}
	return types.NewErr("a version is not a %s", t.TypeName())
}

// Equal compares it.
func (v versionValue) Equal(other ref.Val) ref.Val {
	o, ok := other.(versionValue)
	return types.Bool(ok && v.compare(o) == 0)
}

// Type is its type.
func (v versionValue) Type() ref.Type { return versionKind }

// Value is what it holds.
func (v versionValue) Value() any { return v.text }
