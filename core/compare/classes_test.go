package compare_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"knothole/core/compare"
	"knothole/core/value"
)

// TestClasses checks that sides have one number exactly where they have the same.
func TestClasses(t *testing.T) {
	one, two, none := value.StringOf("one", 0), value.StringOf("two", 0), value.Value{}
	rows := compare.Compare(none, two, one, two, none).Rows()
	assert.Len(t, rows, 1)
	assert.Equal(t, []int{-1, 0, 1, 0, -1}, rows[0].Classes())
	assert.True(t, rows[0].Whole())
	d := compare.Document{On: []bool{true, false, true}}
	assert.Equal(t, []int{0, -1, 0}, d.Classes(), "what does not differ is the same wherever it is")
}
