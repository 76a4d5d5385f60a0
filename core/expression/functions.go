package expression

import (
	"math/big"
	"net/url"
	"reflect"
	"regexp"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// functions are those that the format of custom resource definitions adds to the language: on lists, regular
// expressions, addresses, quantities, versions and forms of texts.
func functions() []cel.EnvOption {
	text, list := cel.StringType, cel.ListType(cel.TypeParamType("T"))
	element := cel.TypeParamType("T")
	urlType, quantity := cel.ObjectType("URL"), cel.ObjectType("Quantity")
	one := func(name, id string, of, gives *cel.Type, f func(ref.Val) ref.Val) cel.EnvOption {
		return cel.Function(name, cel.MemberOverload(id, []*cel.Type{of}, gives, cel.UnaryBinding(f)))
	}
	two := func(name, id string, a, b, gives *cel.Type, f func(a, b ref.Val) ref.Val) cel.EnvOption {
		return cel.Function(name, cel.MemberOverload(id, []*cel.Type{a, b}, gives, cel.BinaryBinding(f)))
	}
	of := func(name, id string, from, gives *cel.Type, f func(ref.Val) ref.Val) cel.EnvOption {
		return cel.Function(name, cel.Overload(id, []*cel.Type{from}, gives, cel.UnaryBinding(f)))
	}
	part := func(name string, get func(u *url.URL) string) cel.EnvOption {
		return one(name, "url_"+name, urlType, text, func(v ref.Val) ref.Val {
			return types.String(get(v.(urlValue).URL))
		})
	}
	return append(append(formatFunctions(), versionFunctions()...), []cel.EnvOption{
		one("isSorted", "list_is_sorted", list, cel.BoolType, isSorted),
		one("sum", "list_sum", list, element, sum),
		one("min", "list_min", list, element, func(v ref.Val) ref.Val { return extreme(v, -1) }),
		one("max", "list_max", list, element, func(v ref.Val) ref.Val { return extreme(v, 1) }),
		two("indexOf", "list_index_of", list, element, cel.IntType,
			func(a, b ref.Val) ref.Val { return position(a, b, false) }),
		two("lastIndexOf", "list_last_index_of", list, element, cel.IntType,
			func(a, b ref.Val) ref.Val { return position(a, b, true) }),
		two("find", "text_find", text, text, text, find),
		two("findAll", "text_find_all", text, text, cel.ListType(text),
			func(a, b ref.Val) ref.Val { return findAll(a, b, types.Int(-1)) }),
		cel.Function("findAll", cel.MemberOverload("text_find_so_many", []*cel.Type{text, text, cel.IntType},
			cel.ListType(text), cel.FunctionBinding(func(a ...ref.Val) ref.Val { return findAll(a[0], a[1], a[2]) }))),
		of("url", "text_to_url", text, urlType, toURL),
		of("isURL", "text_is_url", text, cel.BoolType,
			func(v ref.Val) ref.Val { return types.Bool(!types.IsError(toURL(v))) }),
		part("getScheme", func(u *url.URL) string { return u.Scheme }),
		part("getHost", func(u *url.URL) string { return u.Host }),
		part("getHostname", (*url.URL).Hostname),
		part("getPort", (*url.URL).Port),
		part("getEscapedPath", (*url.URL).EscapedPath),
		one("getQuery", "url_get_query", urlType, cel.MapType(text, cel.ListType(text)), func(v ref.Val) ref.Val {
			return types.DefaultTypeAdapter.NativeToValue(map[string][]string(v.(urlValue).Query()))
		}),
		of("quantity", "text_to_quantity", text, quantity, toQuantity),
		of("isQuantity", "text_is_quantity", text, cel.BoolType,
			func(v ref.Val) ref.Val { return types.Bool(!types.IsError(toQuantity(v))) }),
		one("sign", "quantity_sign", quantity, cel.IntType,
			func(v ref.Val) ref.Val { return types.Int(v.(quantityValue).Sign()) }),
		one("isInteger", "quantity_is_integer", quantity, cel.BoolType,
			func(v ref.Val) ref.Val {
				return types.Bool(v.(quantityValue).IsInt() && v.(quantityValue).Num().IsInt64())
			}),
		one("asInteger", "quantity_as_integer", quantity, cel.IntType, func(v ref.Val) ref.Val {
			if q := v.(quantityValue); q.IsInt() && q.Num().IsInt64() {
				return types.Int(q.Num().Int64())
			}
			return types.NewErr("the quantity is not an integer")
		}),
		one("asApproximateFloat", "quantity_as_float", quantity, cel.DoubleType, func(v ref.Val) ref.Val {
			f, _ := v.(quantityValue).Float64()
			return types.Double(f)
		}),
		two("isLessThan", "quantity_is_less", quantity, quantity, cel.BoolType,
			func(a, b ref.Val) ref.Val { return types.Bool(a.(quantityValue).Cmp(b.(quantityValue).Rat) < 0) }),
		two("isGreaterThan", "quantity_is_greater", quantity, quantity, cel.BoolType,
			func(a, b ref.Val) ref.Val { return types.Bool(a.(quantityValue).Cmp(b.(quantityValue).Rat) > 0) }),
		two("compareTo", "quantity_compare", quantity, quantity, cel.IntType,
			func(a, b ref.Val) ref.Val { return types.Int(a.(quantityValue).Cmp(b.(quantityValue).Rat)) }),
		two("add", "quantity_add", quantity, quantity, quantity, func(a, b ref.Val) ref.Val {
			return quantityValue{new(big.Rat).Add(a.(quantityValue).Rat, b.(quantityValue).Rat)}
		}),
		two("add", "quantity_add_int", quantity, cel.IntType, quantity, func(a, b ref.Val) ref.Val {
			return quantityValue{new(big.Rat).Add(a.(quantityValue).Rat, new(big.Rat).SetInt64(int64(b.(types.Int))))}
		}),
		two("sub", "quantity_sub", quantity, quantity, quantity, func(a, b ref.Val) ref.Val {
			return quantityValue{new(big.Rat).Sub(a.(quantityValue).Rat, b.(quantityValue).Rat)}
		}),
		two("sub", "quantity_sub_int", quantity, cel.IntType, quantity, func(a, b ref.Val) ref.Val {
			return quantityValue{new(big.Rat).Sub(a.(quantityValue).Rat, new(big.Rat).SetInt64(int64(b.(types.Int))))}
		}),
	}...)
}

// elements returns the elements of a list.
func elements(v ref.Val) []ref.Val {
	list := v.(traits.Lister)
	n := int(list.Size().(types.Int))
	all := make([]ref.Val, n)
	for i := range n {
		all[i] = list.Get(types.Int(i))
	}
	return all
}

// order compares two values; the error is not nil when they cannot be.
func order(a, b ref.Val) (types.Int, ref.Val) {
	c, ok := a.(traits.Comparer)
	if !ok {
		return 0, types.NewErr("%s cannot be compared", a.Type().TypeName())
	}
	got := c.Compare(b)
	n, ok := got.(types.Int)
	if !ok {
		return 0, got
	}
	return n, nil
}

func isSorted(v ref.Val) ref.Val {
	all := elements(v)
	for i := 1; i < len(all); i++ {
		if n, err := order(all[i-1], all[i]); err != nil {
			return err
		} else if n > 0 {
			return types.False
		}
	}
	return types.True
}

func extreme(v ref.Val, sign types.Int) ref.Val {
	all := elements(v)
	if len(all) == 0 {
		return types.NewErr("the list is empty")
	}
	best := all[0]
	for _, x := range all[1:] {
		n, err := order(x, best)
		if err != nil {
			return err
		}
		if n == sign {
			best = x
		}
	}
	return best
}

func sum(v ref.Val) ref.Val {
	var total ref.Val = types.Int(0)
	for i, x := range elements(v) {
		adder, ok := x.(traits.Adder)
		if !ok {
			return types.NewErr("%s cannot be added", x.Type().TypeName())
		}
		if i == 0 {
			total = x
		} else {
			total = adder.Add(total)
		}
	}
	return total
}

func position(list, x ref.Val, last bool) ref.Val {
	all := elements(list)
	found := types.Int(-1)
	for i, y := range all {
		if y.Equal(x) == types.True {
			if found = types.Int(i); !last {
				break
			}
		}
	}
	return found
}

func find(text, pattern ref.Val) ref.Val {
	re, err := regexp.Compile(string(pattern.(types.String)))
	if err != nil {
		return types.NewErr("the pattern cannot be used: %s", err)
	}
	return types.String(re.FindString(string(text.(types.String))))
}

func findAll(text, pattern, most ref.Val) ref.Val {
	re, err := regexp.Compile(string(pattern.(types.String)))
	if err != nil {
		return types.NewErr("the pattern cannot be used: %s", err)
	}
	found := re.FindAllString(string(text.(types.String)), int(most.(types.Int)))
	return types.DefaultTypeAdapter.NativeToValue(found)
}

// urlValue is an absolute URL, or a path from the root.
type urlValue struct{ *url.URL }

var urlKind = cel.ObjectType("URL", traits.ReceiverType)

func toURL(v ref.Val) ref.Val {
	u, err := url.ParseRequestURI(string(v.(types.String)))
	if err != nil {
		return types.NewErr("%q is not a URL", string(v.(types.String)))
	}
	return urlValue{u}
}

// ConvertToNative, ConvertToType, Equal, Type and Value make it a value of the library.
func (u urlValue) ConvertToNative(t reflect.Type) (any, error) { return u.URL, nil }

// ConvertToType converts it.
func (u urlValue) ConvertToType(t ref.Type) ref.Val {
	if t.TypeName() == types.StringType.TypeName() {
		return types.String(u.String())
	}
	return types.NewErr("a URL is not a %s", t.TypeName())
}

// Equal compares it.
func (u urlValue) Equal(other ref.Val) ref.Val {
	o, ok := other.(urlValue)
	return types.Bool(ok && u.String() == o.String())
}

// Type is its type.
func (u urlValue) Type() ref.Type { return urlKind }

// Value is what it holds.
func (u urlValue) Value() any { return u.URL }

// quantityValue is an amount, exactly.
type quantityValue struct{ *big.Rat }

var (
	quantityKind = cel.ObjectType("Quantity", traits.ReceiverType)
	quantityForm = regexp.MustCompile(`^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)(([KMGTPE]i)|[numkMGTPE]|[eE][+-]?[0-9]{1,3})?$`)
)

func toQuantity(v ref.Val) ref.Val {
	text := string(v.(types.String))
	if !quantityForm.MatchString(text) {
		return types.NewErr("%q is not a quantity", text)
	}
	number, unit := text, ""
	if at := strings.LastIndexAny(text, "0123456789."); strings.ContainsAny(text[at+1:], "numkKMGTPEi") {
		number, unit = text[:at+1], text[at+1:]
	}
	r, ok := new(big.Rat).SetString(number)
	if !ok {
		return types.NewErr("%q is not a quantity", text)
	}
	return quantityValue{r.Mul(r, unitOf(unit))}
}

// unitOf returns what a unit stands for.
func unitOf(unit string) *big.Rat {
	small := map[string]int64{"n": 1_000_000_000, "u": 1_000_000, "m": 1000}
	if d, ok := small[unit]; ok {
		return big.NewRat(1, d)
	}
	base, power := int64(1000), strings.Index("kMGTPE", strings.TrimSuffix(unit, "i"))
	if strings.HasSuffix(unit, "i") {
		base, power = 1024, strings.Index("KMGTPE", unit[:1])
	}
	if unit == "" {
		power = -1
	}
	n := big.NewInt(1)
	for range power + 1 {
		n.Mul(n, big.NewInt(base))
	}
	return new(big.Rat).SetInt(n)
}

// ConvertToNative makes it a value of the library, as the functions below do.
func (q quantityValue) ConvertToNative(t reflect.Type) (any, error) { return q.Rat, nil }

// ConvertToType converts it.
func (q quantityValue) ConvertToType(t ref.Type) ref.Val {
	return types.NewErr("a quantity is not a %s", t.TypeName())
}

// Equal compares it.
func (q quantityValue) Equal(other ref.Val) ref.Val {
	o, ok := other.(quantityValue)
	return types.Bool(ok && q.Cmp(o.Rat) == 0)
}

// Type is its type.
func (q quantityValue) Type() ref.Type { return quantityKind }

// Value is what it holds.
func (q quantityValue) Value() any { return q.Rat }
