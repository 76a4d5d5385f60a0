// Package expression compiles and evaluates the rules of custom resource definitions, which are in the Common
// Expression Language. Importing it is enough for schemas to know the language. It exists so that only this package
// depends on the library.
package expression

import (
	"errors"
	"fmt"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/ext"

	"knothole/core/schema"
)

func init() { schema.Register(language{}) }

// language is the language with the functions of a server.
type language struct{}

// rule is a compiled rule.
type rule struct{ program cel.Program }

// costLimit is how much a rule may cost, in the units of the library.
const costLimit = 1_000_000

// environment is the one in which rules are compiled. It is made when the first rule is met.
var environment = sync.OnceValues(func() (*cel.Env, error) {
	options := append([]cel.EnvOption{
		cel.Variable("self", cel.DynType), cel.Variable("oldSelf", cel.DynType), cel.DefaultUTCTimeZone(true),
		cel.OptionalTypes(), cel.CrossTypeNumericComparisons(true), cel.EagerlyValidateDeclarations(true),
		ext.Strings(), ext.Lists(), ext.Sets(), ext.Math(), ext.TwoVarComprehensions(), ext.Encoders(), ext.Network(),
	}, functions()...)
	return cel.NewEnv(options...)
})

// bounds keeps calls from taking very long.
var bounds = sync.OnceValue(func() cel.ProgramOption {
	env, err := environment()
	if err == nil {
		var option cel.ProgramOption
		if option, err = guarded(env); err == nil {
			return option
		}
	}
	panic(fmt.Sprintf("the functions of rules cannot be bounded: %s", err))
})

// Compile compiles a rule, or a message.
func (language) Compile(text string, message bool) (schema.Rule, error) {
	env, err := environment()
	if err != nil {
		panic(fmt.Sprintf("the environment of rules cannot be made: %s", err))
	}
	want := cel.BoolType
	if message {
		want = cel.StringType
	}
	ast, issues := env.Compile(text)
	if err := issues.Err(); err != nil {
		what := "cannot be read: " + firstIssue(issues)
		if strings.Contains(err.Error(), "undeclared reference") {
			return nil, schema.UnknownName(what)
		}
		return nil, errors.New(what)
	}
	if got := ast.OutputType(); !got.IsExactType(want) && !got.IsExactType(cel.DynType) {
		return nil, fmt.Errorf("gives %s, not %s", got, want)
	}
	program, err := env.Program(ast, cel.CostLimit(costLimit), cel.CostTracking(costs{}), bounds())
	if err != nil {
		return nil, errors.New("cannot be used: " + oneLine(err.Error()))
	}
	return rule{program}, nil
}

func firstIssue(issues *cel.Issues) string {
	for _, e := range issues.Errors() {
		return fmt.Sprintf("%s (at %d:%d of it)", oneLine(e.Message), e.Location.Line(), e.Location.Column()+1)
	}
	return oneLine(issues.Err().Error())
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// Evaluate returns what the rule says of a value, and the steps that it took.
func (r rule) Evaluate(self any) (result any, steps int, err error) {
	got, details, err := r.program.Eval(map[string]any{"self": self})
	steps = stepsOf(details)
	switch {
	case err != nil && strings.Contains(err.Error(), "cost limit"):
		return nil, steps, schema.ErrCost
	case err != nil:
		return nil, steps, err
	}
	return got.Value(), steps, nil
}

// stepsOf is how many steps a rule took.
func stepsOf(details *cel.EvalDetails) int {
	if details == nil {
		return 1
	}
	if cost := details.ActualCost(); cost != nil {
		return int(min(*cost, costLimit)) / unitsOfStep
	}
	return 1
}

// unitsOfStep is how many units of the cost of a rule take as long as a step.
const unitsOfStep = 2
