package flow

import (
	"slices"

	"knothole/core/check"
	"knothole/core/syntax"
	"knothole/core/types"
)

// builtin returns the taint of the result of a built-in function, and reports what a secret would decide in it.
func (t *frame) builtin(e *syntax.Call, o *check.Object, arguments []*taint, written []syntax.Expression) *taint {
	if o.Builtin == check.Environment || o.Builtin == check.Environments || o.Builtin == check.Fail {
		return nil
	}
	if o.Builtin.Handling != check.Passes {
		return scalars("", e.Place(), arguments...)
	}
	b := &builtinCall{frame: t, call: e, name: o.Name, variables: map[string]*taint{}}
	for i, p := range o.Parameters {
		switch types.Core(p.Type) {
		case types.Int, types.String:
			if written[i] != nil {
				t.decides(arguments[i], "the result of "+o.Name, written[i].Place())
			}
		}
		b.gather(p.Type, arguments[i].standing(e.Place()))
	}
	for i, p := range o.Parameters {
		b.callback(p, arguments[i], written[i])
	}
	switch o.Builtin.Gives {
	case check.ListedEntries, check.OtherEntries:
		found := arguments[0].standing(e.Place())
		if kept := t.module.Info.Types[e.ID()]; kept != nil && types.AsRecord(kept) != nil && found != nil {
			fields := map[string]*taint{}
			for name, inner := range found.fields {
				if types.HasField(kept, name) {
					fields[name] = inner
				}
			}
			if found = (&taint{scalar: found.scalar, fields: fields,
				rest: found.rest}); len(fields) == 0 && found.scalar == nil && found.rest == nil {
				return nil
			}
		}
		return found
	case check.FirstArgument:
		return arguments[0].unordered().standing(e.Place())
	case check.MergedArguments:
		return either(arguments[0], arguments[1])
	case check.OneEntry:
		if s, ok := written[1].(*syntax.String); ok {
			if key, plain := s.Plain(); plain {
				return either(arguments[0].field(key), arguments[2]).standing(e.Place())
			}
		}
	}
	return b.result(o.Type)
}

// builtinCall is one call of a built-in function that passes on what it is given. What stands for a type variable in
// its result can only come from where that variable is in its parameters, so that its signature tells where
// everything goes.
type builtinCall struct {
	*frame
	call      *syntax.Call
	name      string
	variables map[string]*taint
}

// gather notes what a value of a type brings for the variables in it.
func (b *builtinCall) gather(t types.Type, found *taint) {
	if found == nil {
		return
	}
	switch t := t.(type) {
	case *types.Variable:
		b.variables[t.Name] = either(b.variables[t.Name], found)
	case *types.List:
		b.gather(t.Element, found.element())
	case *types.Union:
		for _, m := range t.Members {
			b.gather(m, found)
		}
	case *types.Record:
		for _, field := range t.Fields {
			b.gather(field.Type, found.field(field.Name))
		}
		if t.Rest != nil {
			b.gather(t.Rest, found.element())
		}
	}
}

// callback follows what is given to a function that is a parameter, and what that returns.
func (b *builtinCall) callback(p check.Parameter, given *taint, written syntax.Expression) {
	var function *types.Function
	for _, part := range types.Parts(p.Type) {
		if of := types.AsFunction(part); of != nil {
			function = of
		}
	}
	if function == nil {
		return
	}
	arguments := make([]*taint, len(function.Parameters))
	returns := func() (returned *taint) {
		for i, parameter := range function.Parameters {
			arguments[i] = b.result(parameter)
		}
		switch {
		case written == nil: // what is ordered decides itself
			returned = arguments[0]
		case given != nil && given.runs != nil:
			returned = b.run(given.runs, arguments, b.call.Place())
		}
		return returned
	}
	returned := returns()
	if returned != nil && slices.Contains(function.Parameters, function.Result) { // it is given what it returned
		b.gather(function.Result, returned)
		returned = returns()
	}
	switch types.Core(function.Result) {
	case types.Bool:
		b.decides(returned, "what "+b.name+" chooses", b.call.Place())
	case types.String:
		b.decides(returned, "a key of "+b.name, b.call.Place())
	case types.Any:
		b.decides(returned, "the result of "+b.name, b.call.Place())
	default:
		b.gather(function.Result, returned)
	}
}

// result returns the taint of a value of a type with variables.
func (b *builtinCall) result(t types.Type) *taint {
	var found *taint
	switch t := t.(type) {
	case *types.Variable:
		return b.variables[t.Name]
	case *types.List:
		return elements(b.result(t.Element))
	case *types.Tuple:
		var all *taint
		for _, element := range t.Elements {
			all = either(all, b.result(element))
		}
		return elements(all)
	case *types.Union:
		for _, m := range t.Members {
			found = either(found, b.result(m))
		}
		return found
	case *types.Record:
		found = &taint{fields: map[string]*taint{}}
		for _, field := range t.Fields {
			if inner := b.result(field.Type); inner != nil {
				found.fields[field.Name] = inner
			}
		}
		if t.Rest != nil {
			found.rest = b.result(t.Rest)
		}
	}
	if found == nil || found.rest == nil && len(found.fields) == 0 {
		return nil
	}
	return found
}
