package expression

import (
	"regexp"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	overloads "cel.dev/cel-go/common/functions"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"

	"knothole/core/schema"
)

// One call of a library function can take very long, and the library counts the cost only after the call. For each
// function that is not linear in its arguments, the cost is therefore estimated before the call.

// costly maps these functions to the cost of a call, in the units of costLimit: a tenth of a microsecond.
var costly = map[string]func(args []ref.Val) uint64{
	"matches": patternCost, "find": patternCost, "findAll": patternCost,
	"join":            func(args []ref.Val) uint64 { return joinCost(args) / bytesOfUnit },
	"replace":         replaceCost,
	"sets.contains":   productCost,
	"sets.intersects": productCost,
	"sets.equivalent": productCost,
	"distinct":        squareCost, "sort": squareCost, "@sortByAssociatedKeys": squareCost,
}

// bytesOfUnit is the number of bytes that are written, or matched by one instruction of a pattern, per unit.
const bytesOfUnit = 10

func textOfArgument(args []ref.Val, i int) string {
	if i < len(args) {
		if s, ok := args[i].(types.String); ok {
			return string(s)
		}
	}
	return ""
}

func lengthOf(args []ref.Val, i int) uint64 {
	if i < len(args) {
		if list, ok := args[i].(traits.Sizer); ok {
			if n, ok := list.Size().(types.Int); ok {
				return uint64(n)
			}
		}
	}
	return 0
}

// patterns caches the program lengths of patterns.
var patterns sync.Map

// patternCost is the cost of matching a pattern against a string: in the worst case, every instruction at every byte.
func patternCost(args []ref.Val) uint64 {
	text := textOfArgument(args, 1)
	length, known := patterns.Load(text)
	if !known {
		length = uint64(schema.Instructions(text))
		patterns.Store(text, length)
	}
	return length.(uint64) * uint64(len(textOfArgument(args, 0))+bytesOfUnit) / bytesOfUnit
}

func joinCost(args []ref.Val) uint64 {
	list, ok := args[0].(traits.Lister)
	if !ok {
		return 0
	}
	bytes, separator := uint64(0), uint64(len(textOfArgument(args, 1)))
	for it := list.Iterator(); it.HasNext() == types.True; {
		if s, ok := it.Next().(types.String); ok {
			bytes += uint64(len(s)) + separator
		}
	}
	return bytes
}

func replaceCost(args []ref.Val) uint64 {
	text, old, with := textOfArgument(args, 0), textOfArgument(args, 1), textOfArgument(args, 2)
	return (uint64(len(text)) + uint64(strings.Count(text, old))*uint64(len(with))) / bytesOfUnit
}

func productCost(args []ref.Val) uint64 { return (lengthOf(args, 0) + 1) * (lengthOf(args, 1) + 1) }

func squareCost(args []ref.Val) uint64 { return lengthOf(args, 0) * lengthOf(args, 0) }

// costs gives the library the costs of calls.
type costs struct{}

// CallCost returns the cost of a call, or nil for a call that the library counts itself.
func (costs) CallCost(function, _ string, args []ref.Val, _ ref.Val) *uint64 {
	if of := costly[function]; of != nil {
		n := of(args)
		return &n
	}
	return nil
}

// guarded returns the costly functions, each of which checks its cost before it runs.
func guarded(env *cel.Env) (cel.ProgramOption, error) {
	var all []*overloads.Overload
	for name, of := range costly {
		declared := env.Functions()[name]
		if declared == nil {
			continue
		}
		bindings, err := declared.Bindings()
		if err != nil {
			return nil, err
		}
		for _, b := range bindings {
			all = append(all, guardedOverload(b, of))
		}
	}
	//lint:ignore SA1019 Function() declares functions; to put another implementation under one there is no other way.
	return cel.Functions(all...), nil
}

func guardedOverload(b *overloads.Overload, of func(args []ref.Val) uint64) *overloads.Overload {
	own := *b
	if (b.Operator == "matches" || strings.HasPrefix(b.Operator, "matches_")) && b.Binary != nil {
		b = &overloads.Overload{Binary: matches}
	}
	tooMuch := func(args ...ref.Val) ref.Val {
		if of(args) > costLimit {
			return types.NewErr("cost limit exceeded")
		}
		return nil
	}
	if b.Unary != nil {
		own.Unary = func(v ref.Val) ref.Val {
			if wrong := tooMuch(v); wrong != nil {
				return wrong
			}
			return b.Unary(v)
		}
	}
	if b.Binary != nil {
		own.Binary = func(x, y ref.Val) ref.Val {
			if wrong := tooMuch(x, y); wrong != nil {
				return wrong
			}
			return b.Binary(x, y)
		}
	}
	if b.Function != nil {
		own.Function = func(args ...ref.Val) ref.Val {
			if wrong := tooMuch(args...); wrong != nil {
				return wrong
			}
			return b.Function(args...)
		}
	}
	return &own
}

// compiledPatterns are the patterns of `matches` that were compiled.
var compiledPatterns sync.Map

// matches is the function of the language, which compiles each pattern once.
func matches(text, pattern ref.Val) ref.Val {
	p, ok := pattern.(types.String)
	s, isText := text.(types.String)
	if !ok || !isText {
		return types.MaybeNoSuchOverloadErr(text)
	}
	compiled, known := compiledPatterns.Load(string(p))
	if !known {
		re, err := regexp.Compile(string(p))
		if err != nil {
			return types.NewErr("%s", err)
		}
		compiled, _ = compiledPatterns.LoadOrStore(string(p), re)
	}
	return types.Bool(compiled.(*regexp.Regexp).MatchString(string(s)))
}
