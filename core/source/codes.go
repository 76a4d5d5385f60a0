package source

// Code names a kind of error. It is stable: scripts and people look it up.
type Code string

// The codes, by the stage that finds them.
const (
	// Reading sources.
	NotUTF8             Code = "not-utf8"
	UnexpectedCharacter Code = "unexpected-character"
	UnclosedString      Code = "unclosed-string"
	UnclosedBracket     Code = "unclosed-bracket"
	Syntax              Code = "syntax"
	ReservedWord        Code = "reserved-word"
	BadNumber           Code = "bad-number"
	BadEscape           Code = "bad-escape"
	TooDeep             Code = "too-deep"

	// Checking.
	BadName           Code = "bad-name"
	DuplicateName     Code = "duplicate-name"
	DuplicateKey      Code = "duplicate-key"
	UnknownName       Code = "unknown-name"
	UnknownField      Code = "unknown-field"
	UnknownType       Code = "unknown-type"
	UnknownFormat     Code = "unknown-format"
	WrongType         Code = "wrong-type"
	WrongUse          Code = "wrong-use"
	WrongArguments    Code = "wrong-arguments"
	MissingField      Code = "missing-field"
	MayBeNull         Code = "may-be-null"
	MayBeAbsent       Code = "may-be-absent"
	NeverEqual        Code = "never-equal"
	NeedlessDefault   Code = "needless-default"
	NotInserted       Code = "not-inserted"
	IncompleteMatch   Code = "incomplete-match"
	UnreachableBranch Code = "unreachable-branch"
	BadPattern        Code = "bad-pattern"
	Cycle             Code = "cycle"
	Recursion         Code = "recursion"
	ConditionDepends  Code = "condition-depends"
	ImpossiblePath    Code = "impossible-path"
	NeedsInstance     Code = "needs-instance"
	TestNeeds         Code = "test-needs-environment"
	NoExpectation     Code = "no-expectation"
	Unused            Code = "unused"
	// NotRendered is what is in a module, or in an instance of one, that nothing renders.
	NotRendered Code = "not-rendered"
	// NotInForce is a rule that nothing holds.
	NotInForce Code = "not-in-force"

	// Evaluation.
	TooMuchWork    Code = "too-much-work"
	DivisionByZero Code = "division-by-zero"
	NoElement      Code = "no-element"
	CallFailed     Code = "call-failed"
	Limit          Code = "limit"
	AmbiguousUnion Code = "ambiguous-union"
	Repetition     Code = "repetition"
	Requirement    Code = "requirement"
	// Failed is what fail(…) says.
	Failed          Code = "failed"
	NoPath          Code = "no-path"
	PathTaken       Code = "path-taken"
	SeveralElements Code = "several-elements"
	Expectation     Code = "expectation"
	HiddenDecision  Code = "hidden-decision"
	SecretExposed   Code = "secret-exposed"
	NotKnown        Code = "not-known"

	// Reading and writing data.
	BadData       Code = "bad-data"
	CannotHold    Code = "cannot-hold"
	ReadOtherwise Code = "read-otherwise"

	// Projects.
	NoFile             Code = "no-file"
	OutsideProject     Code = "outside-project"
	UnknownKey         Code = "unknown-key"
	UnknownEnvironment Code = "unknown-environment"
	UnknownInput       Code = "unknown-input"
	MissingInput       Code = "missing-input"
	SecretInFile       Code = "secret-in-file"
	SecretReference    Code = "secret-reference"
	SecretUnavailable  Code = "secret-unavailable"
	Deprecated         Code = "deprecated"
	// TooOld is a program that is older than what the project needs.
	TooOld Code = "too-old"

	// Rendering.
	BadPath     Code = "bad-path"
	SamePath    Code = "same-path"
	ForeignFile Code = "foreign-file"
	// RenderedDiffers is what check --rendered finds.
	RenderedDiffers Code = "rendered-differs"

	// Schemas.
	BadSchema       Code = "bad-schema"
	SchemaViolation Code = "schema-violation"
	// Parity is a difference between environments that are to be alike.
	Parity Code = "parity"
	// RuleViolation is a document that does not meet a rule of the project, RuleFailed a rule that cannot be held.
	RuleViolation Code = "rule-violation"
	RuleFailed    Code = "rule-failed"
	// LooksAtNothing is a rule that meets no document of any environment.
	LooksAtNothing Code = "looks-at-nothing"
	// ExemptionEnds is an exemption from a rule whose last day is near, or over.
	ExemptionEnds Code = "exemption-ends"
	// DanglingReference is a name in a document that should be that of another, or labels that no document has.
	DanglingReference Code = "dangling-reference"
	// NoDifference is a place at which environments may differ, and do not.
	NoDifference Code = "no-difference"
	// NoSchema is a kind that the catalogue lacks.
	NoSchema Code = "no-schema"
)

// renamed are the codes that had another name before, by that name.
var renamed = map[Code]Code{
	"bad-place":       ImpossiblePath,
	"breaks-rule":     RuleViolation,
	"breaks-schema":   SchemaViolation,
	"leads-nowhere":   DanglingReference,
	"no-place":        NoPath,
	"place-taken":     PathTaken,
	"several-places":  SeveralElements,
	"unlike":          Parity,
	"unreachable-arm": UnreachableBranch,
}

// Renamed returns the present name of a code that had another name before 1.0, and whether it is one.
func Renamed(old Code) (Code, bool) {
	code, is := renamed[old]
	return code, is
}
