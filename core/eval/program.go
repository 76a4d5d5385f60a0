package eval

import (
	"slices"
	"sync"
	"sync/atomic"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// Builtins is a table of built-in functions and their bodies.
type Builtins struct {
	*check.Builtins
	bodies map[*check.Builtin]Native
}

// NewBuiltins returns the table of some functions; each must have a body.
func NewBuiltins(declared []*check.Builtin, bodies map[*check.Builtin]Native) *Builtins {
	return &Builtins{check.NewBuiltins(declared), bodies}
}

// Native is the body of a built-in function. The arguments are complete and of the declared types.
type Native func(c *Call, arguments []value.Value) value.Value

// Program is a checked program ready to run. It may be used by several goroutines.
type Program struct {
	checked      *check.Program
	builtins     *Builtins
	declarations []*declaration        // by what global says
	first        map[*check.Module]int // the number of the first declaration of each module
	data         map[*check.Object]value.Value
	keys         Keys
	constants    *World
	ofTexts      textRecord // of the constants
	marked       bool       // some values may be secret, or known only after deployment
	observer     Observer

	mu        sync.Mutex
	functions map[*check.Object]*function
	users     map[*check.Object][]*check.Object // by what they use; nil for the environment
	dependent map[*check.Object][]int           // what dependents found
	// The code of the limits and defaults of types, and of the messages of limits, by their numbers.
	conditions, messages, defaults []fixed
	// statements are the declarations without a name.
	statements map[*check.Object]*compiledStatement
	rules      map[*check.Object]*compiledRule

	patterns     sync.Map // by their texts, those that were not known before evaluation
	patternCount atomic.Int64
}

type compiledStatement struct {
	once sync.Once
	run  statement
}

// Keys tells for the place of a value that was read from a file where its key stands.
type Keys map[source.Pos]source.Pos

// declaration is one declaration that has a value.
type declaration struct {
	object *check.Object
	once   sync.Once
	body   code
	path   code // of documents
}

type function struct {
	object   *check.Object
	once     sync.Once
	body     code
	defaults []code
}

// fixed is a piece of code that belongs to a type: a condition, its message, or the default of a field.
type fixed struct {
	once sync.Once
	body code
}

// New prepares a checked program. Data holds the contents of the data files that modules use, keys the places of the
// keys of all data.
func New(checked *check.Program, builtins *Builtins, data map[*check.Object]value.Value, keys Keys) *Program {
	p := &Program{
		marked:  checked.Marked(),
		checked: checked, builtins: builtins, data: data, keys: keys,
		first:      make(map[*check.Module]int, len(checked.Modules)),
		functions:  map[*check.Object]*function{},
		conditions: make([]fixed, len(checked.Conditions)),
		messages:   make([]fixed, len(checked.Conditions)),
		defaults:   make([]fixed, len(checked.Defaults)),
		statements: map[*check.Object]*compiledStatement{},
		rules:      map[*check.Object]*compiledRule{},
	}
	for _, m := range checked.Modules {
		p.first[m] = len(p.declarations)
		p.declarations = slices.Grow(p.declarations, m.Globals)[:len(p.declarations)+m.Globals]
		for _, o := range m.Order {
			if o.Global >= 0 {
				p.declarations[p.global(o)] = &declaration{object: o}
			}
		}
	}
	p.constants = p.newWorld(Environment{}, nil)
	p.constants.evaluation.lock = &sync.Mutex{}
	return p
}

// global numbers the declarations of all modules of the program that have a value.
func (p *Program) global(o *check.Object) int { return p.first[o.Module] + o.Global }

// Observer is told the value of each expression that is evaluated, and the type that it must be of.
type Observer func(at source.Span, t types.Type, v value.Value)

// Observe lets an observer see all that is evaluated from now on. It is for tests of the promise that what is
// accepted is of its type; nothing may have been evaluated before.
func (p *Program) Observe(o Observer) { p.observer = o }

// World returns a world in which nothing is evaluated yet.
func (p *Program) World(e Environment) *World { return p.newWorld(e, nil) }

// Recording returns a world whose values know all that they depend on.
func (p *Program) Recording(e Environment) *World {
	r := &Recorder{}
	r.ofTexts = &textRecord{recorder: r, constants: &p.ofTexts.own}
	return p.newWorld(e, r)
}

// Constants returns what was found in the declarations that are the same in all environments.
func (p *Program) Constants() source.Findings {
	all := p.constants.evaluation
	all.mu.Lock()
	defer all.mu.Unlock()
	return append(source.Findings(nil), all.findings...)
}

// LostConstants is Lost for the instances that are the same in all environments.
func (p *Program) LostConstants() source.Findings { return p.constants.Lost() }

// TryLiterals tries the values that are written out where a limited type is expected, before anything else is
// evaluated. It returns what does not fit, and marks the declarations as having an error.
func (p *Program) TryLiterals() source.Findings {
	var findings source.Findings
	for _, m := range p.checked.Modules {
		if !m.Tried {
			found := p.tryLiterals(m)
			m.Findings, m.Tried = append(m.Findings, found...), true
			findings = append(findings, found...)
		}
	}
	return findings
}

// tryLiterals is TryLiterals for one module.
func (p *Program) tryLiterals(m *check.Module) source.Findings {
	w := p.newWorld(Environment{}, nil)
	wrong := map[*check.Object]bool{}
	for _, passage := range m.Literals {
		if passage.Owner.Invalid || p.checked.DefaultsVary(passage.Target) {
			continue // else it is tried when it is evaluated
		}
		t := w.thread(passage.Owner)
		ok := guard(func() {
			c := &compiler{program: p, module: passage.Module, bare: passage.Value}
			t.run(func(f *frame) {
				v := c.expression(passage.Value)(f)
				t.convertTo(v, passage.Target, passing{})
			}, passage.Owner.Frame)
		})
		if !ok {
			wrong[passage.Owner] = true
		}
	}
	for owner := range wrong {
		owner.Invalid = true
	}
	return w.Findings()
}

func (p *Program) compiled(d *declaration) *declaration {
	d.once.Do(func() {
		c := &compiler{program: p, module: d.object.Module}
		c.declaration(d)
	})
	return d
}

// statement returns the code of a statement at the top of a module, compiled once.
func (p *Program) statement(o *check.Object) statement {
	p.mu.Lock()
	s, ok := p.statements[o]
	if !ok {
		s = &compiledStatement{}
		p.statements[o] = s
	}
	p.mu.Unlock()
	s.once.Do(func() { s.run = (&compiler{program: p, module: o.Module}).statement(o.Declaration) })
	return s.run
}

func (p *Program) function(o *check.Object) *function {
	p.mu.Lock()
	defer p.mu.Unlock()
	fn, ok := p.functions[o]
	if !ok {
		fn = &function{object: o}
		p.functions[o] = fn
	}
	return fn
}

func (p *Program) compileFunction(fn *function) {
	c := &compiler{program: p, module: fn.object.Module}
	declaration := fn.object.Declaration.(*syntax.Function)
	fn.defaults = make([]code, len(declaration.Parameters))
	for i, parameter := range declaration.Parameters {
		if parameter.Default != nil {
			fn.defaults[i] = c.expression(parameter.Default)
		}
	}
	fn.body = c.expression(declaration.Body)
}

// compile returns a piece of code that belongs to a type, compiled once.
func (f *fixed) compile(compile func() code) code {
	f.once.Do(func() { f.body = compile() })
	return f.body
}

// testCode returns the code of the test of a limit.
func (p *Program) testCode(number int) code {
	condition := p.checked.Conditions[number]
	return p.conditions[number].compile(func() code {
		return (&compiler{program: p, module: condition.Module}).expression(condition.Tree.Test)
	})
}

// messageCode returns the code of the message of a limit.
func (p *Program) messageCode(number int) code {
	condition := p.checked.Conditions[number]
	return p.messages[number].compile(func() code {
		message := (&compiler{program: p, module: condition.Module}).message(condition.Tree.Message)
		return func(f *frame) value.Value { return value.StringOf(message(f), 0) }
	})
}

// defaultCode returns the code of the default of a field.
func (p *Program) defaultCode(number int) code {
	d := p.checked.Defaults[number]
	return p.defaults[number].compile(func() code {
		return (&compiler{program: p, module: d.Module}).expression(d.Expression)
	})
}
