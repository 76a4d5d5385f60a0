package value_test

import (
	"fmt"
	"math"
	"strconv"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/require"

	"knothole/core/value"
)

func text(s string) value.Value  { return value.StringOf(s, 0) }
func number(i int64) value.Value { return value.IntOf(i, 0) }

func record(pairs ...any) value.Value {
	var b value.Builder
	for i := 0; i < len(pairs); i += 2 {
		b.Set(pairs[i].(string), pairs[i+1].(value.Value))
	}
	return b.Record(0)
}

func list(elements ...value.Value) value.Value { return value.ListOf(elements, 0) }

func TestValueIsSmall(t *testing.T) {
	require.Equal(t, uintptr(24), unsafe.Sizeof(value.Value{}))
}

func TestScalarsKeepWhatTheyAre(t *testing.T) {
	require.Equal(t, int64(math.MinInt64), number(math.MinInt64).Int())
	require.Equal(t, -0.5, value.FloatOf(-0.5, 7).Float())
	require.Equal(t, value.Origin(7), value.FloatOf(-0.5, 7).Origin())
	require.Equal(t, "", text("").Text())
	require.Equal(t, "tide", text("tide").Text())
	require.True(t, value.BoolOf(true, 0).Bool())
	require.True(t, value.Value{}.IsAbsent())
	require.Equal(t, 0, list().Len())
}

func TestBuilderKeepsFirstPosition(t *testing.T) {
	var b value.Builder
	for i := range 40 {
		require.Equal(t, i, b.Set(fmt.Sprintf("k%d", i), number(int64(i))))
	}
	require.Equal(t, 3, b.Set("k3", number(-3)))
	require.Equal(t, 25, b.Set("k25", number(-25)))
	r := b.Record(0)
	require.Equal(t, 40, r.Len())
	require.Equal(t, "k3", r.Shape().Keys()[3])
	require.Equal(t, int64(-3), r.Get("k3").Int())
	require.Equal(t, int64(-25), r.Get("k25").Int())
	require.True(t, r.Get("k40").IsAbsent())
}

func TestEqual(t *testing.T) {
	none := func(int) {}
	one := value.FloatOf(1, 0)
	require.True(t, value.Equal(number(1), one, none))
	require.False(t, value.Identical(number(1), one))
	require.False(t, value.Identical(list(number(1)), list(one)))
	require.True(t, value.Equal(record("a", number(1), "b", text("x")), record("b", text("x"), "a", number(1)), none))
	require.False(t, value.Equal(record("a", number(1)), record("b", number(1)), none))
	require.False(t, value.Equal(list(number(1)), list(number(1), number(2)), none))
	require.False(t, value.Equal(text("1"), number(1), none))
	spent := 0
	value.Equal(list(number(1), number(2)), list(number(1), number(2)), func(n int) { spent += n })
	require.Equal(t, 3, spent)
}

func TestFormatFloat(t *testing.T) {
	for f, want := range map[float64]string{
		2: "2.0", 0.1: "0.1", -1.5: "-1.5", 1e21: "1.0e+21", 1e20: "100000000000000000000.0", 1e-7: "1.0e-7",
		1.25e-9: "1.25e-9", math.MaxFloat64: "1.7976931348623157e+308", 0: "0.0",
	} {
		got := value.FormatFloat(f)
		require.Equal(t, want, got)
		back, err := strconv.ParseFloat(got, 64)
		require.NoError(t, err)
		require.Equal(t, f, back)
	}
}

func TestShowIsShort(t *testing.T) {
	long := record("name", text("bay-map"), "ports", list(number(80), number(443)), "note",
		text("a very long note that goes on and on"))
	require.Equal(t, `{ name: "bay-map", ports: [80, 443], … }`, long.Show(36))
	require.Equal(t, `"né"…`, text("nénuphar").Show(3))
	require.Equal(t, `"n"…`, text("nénuphar").Show(2), "a character is not cut in its middle")
	require.Equal(t, "{}", record().Show(10))
}

// TestNothingIsMisread checks that each accessor refuses a value of another kind, and reads what is not known as
// nothing.
func TestNothingIsMisread(t *testing.T) {
	values := []value.Value{value.NullOf(0), value.BoolOf(true, 0), number(7), value.FloatOf(1.5, 0),
		text("a long text that lies somewhere in memory"), list(number(1)),
		record("a", number(1)), value.FunctionOf(1, 0), value.InstanceOf(1, 0)}
	accessors := map[value.Kind]func(v value.Value){
		value.Bool: func(v value.Value) { v.Bool() }, value.Int: func(v value.Value) { v.Int() },
		value.String: func(v value.Value) { _ = v.Text() },
		value.Float:  func(v value.Value) { v.Float() }, value.Function: func(v value.Value) { v.Function() },
		value.Instance: func(v value.Value) { v.Instance() },
	}
	for kind, read := range accessors {
		for _, v := range values {
			if v.Kind() == kind || kind == value.Float && v.Kind() == value.Int {
				require.NotPanics(t, func() { read(v) })
			} else {
				require.PanicsWithError(t, "a value of kind "+v.Kind().String()+" was read as a "+kind.String(),
					func() { read(v) })
			}
		}
		require.NotPanics(t, func() { read(value.UnknownOf(value.String, "<later>", value.Later, 0)) })
	}
}

// TestExtend checks that records that grow out of one another stay as they are, whichever grows first, and find their
// keys.
func TestExtend(t *testing.T) {
	grow := func(v value.Value, key string, n int64) value.Value {
		return v.Extend([]string{key}, []value.Value{number(n)}, 0)
	}
	versions := []value.Value{record()}
	for i := range int64(1000) {
		versions = append(versions, grow(versions[i], fmt.Sprintf("k%d", i), i))
	}
	branch := grow(versions[500], "other", -1)
	for n, v := range append(versions, branch) {
		if n == len(versions) {
			require.Equal(t, int64(-1), v.Get("other").Int())
			n = 500
		} else {
			require.True(t, v.Get("other").IsAbsent())
			require.Equal(t, n, v.Len())
		}
		for _, i := range []int{0, n / 2, n - 1} {
			if i >= 0 && i < n {
				require.Equal(t, int64(i), v.Get(fmt.Sprintf("k%d", i)).Int())
				require.Equal(t, fmt.Sprintf("k%d", i), v.Shape().Keys()[i])
			}
		}
		require.True(t, v.Get(fmt.Sprintf("k%d", n)).IsAbsent())
	}
}
