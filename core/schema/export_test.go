package schema

import (
	"knothole/core/data"
	"knothole/core/value"
)

// IsCertain is the short way, ValidateWhole and ValidateWholeObject are the long ones, for tests that hold them
// against each other.
func (s *Schema) IsCertain(v value.Value, numbers data.Numbers, object bool) bool {
	return s.isCertain(v, numbers, false, object)
}

func (s *Schema) ValidateWhole(v value.Value, numbers data.Numbers) *Result {
	return s.validateWhole(v, numbers, false)
}

func (s *Schema) ValidateWholeObject(v value.Value, numbers data.Numbers) *Result {
	return s.validateWholeObject(v, numbers, false)
}

// WithoutLanguage forgets what compiles rules, until restore is called.
func WithoutLanguage() (restore func()) {
	known := language
	language = nil
	return func() { language = known }
}
