package value_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/value"
)

func TestMarks(t *testing.T) {
	known, secret := value.StringOf("tide", 0), value.StringOf("tide", 0).WithMark(value.Secret)
	later := value.UnknownOf(value.Int, "<n>", value.Later, 0)
	list := value.ListOf([]value.Value{known, secret, later}, 0)
	record := value.RecordOf(value.NewShape([]string{"a", "b"}), []value.Value{list, value.NullOf(0)}, 0)

	require.Equal(t, value.Secret|value.Later|value.Unknown, value.Marks(record))
	require.Zero(t, record.WithMark(value.Secret).Mark(), "a record that holds a secret is none itself")
	require.Zero(t, value.NullOf(0).WithMark(value.Secret).Mark(), "that nothing is there is no secret")
	require.Equal(t, `{ a: ["tide", ‹secret›, 0], b: null }`,
		value.RecordOf(record.Shape(), []value.Value{value.ListOf([]value.Value{known, secret, value.IntOf(0, 0)}, 0),
			value.NullOf(0)}, 0).Show(100))
	require.Equal(t, `{ a: ["tide", "‹secret›", "<n>"], b: null }`, value.Shown(record).Show(100))
	require.Equal(t, `{ a: ["tide", ‹secret›, "<n>"], b: null }`, value.WithPlaceholders(record).Show(100))
	require.Zero(t, value.Marks(value.Shown(record)))

	text, ok := later.Scalar()
	require.True(t, ok)
	require.Equal(t, "<n>", text)
	require.False(t, value.Identical(later, value.IntOf(0, 0)), "what is not known is no 0")
	require.False(t, value.Identical(value.UnknownOf(value.String, "a", value.Later, 0), value.StringOf("a", 0)))
	require.True(t, value.Identical(later, value.UnknownOf(value.Int, "<n>", value.Later, 0)))
	require.True(t, value.Identical(secret, known), "a mark is no part of what a value is")
	require.Empty(t, later.Elements())
	require.Equal(t, -1, later.Shape().Index("a"), "it has no entries")
}
