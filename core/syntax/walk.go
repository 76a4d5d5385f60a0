package syntax

import (
	"iter"

	"knothole/core/source"
)

// Node is a part of a tree that has a place of its own: a Declaration, an Expression or a Type.
type Node interface{ Place() source.Span }

// Place returns the whole of the declaration.
func (h *Header) Place() source.Span { return h.Span }

func (*Bad) expression()    {}
func (*Null) expression()   {}
func (*Bool) expression()   {}
func (*Int) expression()    {}
func (*Float) expression()  {}
func (*String) expression() {}
func (*Name) expression()   {}
func (*It) expression()     {}
func (*Env) expression()    {}
func (*Paren) expression()  {}
func (*List) expression()   {}
func (*Record) expression() {}
func (*Unary) expression()  {}
func (*Binary) expression() {}
func (*If) expression()     {}
func (*Match) expression()  {}
func (*LetIn) expression()  {}
func (*Is) expression()     {}
func (*As) expression()     {}
func (*With) expression()   {}
func (*Lambda) expression() {}
func (*For) expression()    {}
func (*Call) expression()   {}
func (*Field) expression()  {}
func (*Index) expression()  {}
func (*Places) expression() {}
func (*Patch) expression()  {}

func (*NamedType) describesType()    {}
func (*LiteralType) describesType()  {}
func (*UnionType) describesType()    {}
func (*OptionalType) describesType() {}
func (*ListType) describesType()     {}
func (*SetType) describesType()      {}
func (*SchemaType) describesType()   {}
func (*TupleType) describesType()    {}
func (*RecordType) describesType()   {}
func (*FunctionType) describesType() {}
func (*LimitedType) describesType()  {}

// Children returns the nodes that a node is directly made of, in the order in which they are written. What was left out
// or could not be read is not among them. The record of the named arguments of a call is not written of its own: its
// entries are the arguments.
func Children(n Node) iter.Seq[Node] {
	return func(yield func(Node) bool) {
		w := &walker{yield: yield}
		w.children(n)
	}
}

// Inspect visits a node and all that it is made of, what contains before what is contained. Where visit returns false,
// what a node is made of is not visited.
func Inspect(n Node, visit func(Node) bool) {
	if !visit(n) {
		return
	}
	for child := range Children(n) {
		Inspect(child, visit)
	}
}

// walker hands the children of a node on, until it is told to stop.
type walker struct {
	yield   func(Node) bool
	stopped bool
}

func (w *walker) node(n Node) { w.stopped = w.stopped || !w.yield(n) }

// expressions and typed hand on what may be nil.
func (w *walker) expressions(all ...Expression) {
	for _, e := range all {
		if e != nil {
			w.node(e)
		}
	}
}

func (w *walker) typed(all ...Type) {
	for _, t := range all {
		if t != nil {
			w.node(t)
		}
	}
}

func (w *walker) text(s *String) {
	if s != nil {
		w.node(s)
	}
}

func (w *walker) declarations(all []Declaration) {
	for _, d := range all {
		w.node(d)
	}
}

func (w *walker) key(k *Key) {
	if k != nil {
		w.text(k.Value)
	}
}

func (w *walker) entries(all []*Entry) {
	for _, e := range all {
		w.key(e.Key)
		w.expressions(e.Value)
	}
}

func (w *walker) parameters(all []*Parameter) {
	for _, p := range all {
		w.typed(p.Type)
		w.expressions(p.Default)
	}
}

func (w *walker) steps(all []*Step) {
	for _, s := range all {
		for _, key := range s.Keys {
			w.key(key)
		}
		w.expressions(s.Index)
	}
}

func (w *walker) children(n Node) {
	switch n := n.(type) {
	case Declaration:
		w.ofDeclaration(n)
	case Expression:
		w.ofExpression(n)
	case Type:
		w.ofType(n)
	}
}

func (w *walker) ofDeclaration(d Declaration) {
	switch d := d.(type) {
	case *Use:
		w.typed(d.Type)
	case *TypeDeclaration:
		w.typed(d.Type)
	case *Input:
		w.typed(d.Type)
		w.text(d.Placeholder)
		w.expressions(d.Default, d.Example)
	case *Let:
		w.typed(d.Type)
		w.expressions(d.Value)
	case *Function:
		w.parameters(d.Parameters)
		w.typed(d.Result)
		w.expressions(d.Body)
	case *Document:
		w.expressions(d.Path)
		w.typed(d.Type)
		w.expressions(d.Value)
	case *Remark:
		w.expressions(d.Value)
	case *Require:
		w.expressions(d.Condition, d.Message)
	case *Include:
		w.expressions(d.Value, d.Under)
	case *Test:
		for _, name := range d.Environments {
			w.text(name)
		}
		w.text(d.Tag)
		w.declarations(d.Body)
	case *Expect:
		w.expressions(d.Condition, d.Message, d.Mistake, d.From)
	case *Rule:
		w.expressions(d.At, d.Where)
		w.declarations(d.Body)
	case *IfBlock:
		w.expressions(d.Condition)
		w.declarations(d.Then)
		w.declarations(d.Else)
	case *ForBlock:
		w.expressions(d.Loop.In, d.Loop.Where)
		w.declarations(d.Body)
	case *Output:
		w.typed(d.Type)
		w.expressions(d.Value)
	case *PatchAll:
		w.declarations(d.Body)
	case *Each:
		w.expressions(d.At, d.Where)
		w.declarations(d.Body)
	case *Operation:
		w.steps(d.Steps)
		w.expressions(d.Value)
	}
}

func (w *walker) ofExpression(e Expression) {
	switch e := e.(type) {
	case *String:
		for _, p := range e.Parts {
			w.expressions(p.Value)
		}
	case *Paren:
		w.expressions(e.Inner)
	case *List:
		w.entries(e.Elements)
	case *Record:
		w.entries(e.Entries)
	case *Unary:
		w.expressions(e.Operand)
	case *Binary:
		w.expressions(e.Left, e.Right)
	case *If:
		w.expressions(e.Condition, e.Then, e.Else)
	case *Match:
		w.expressions(e.Subject)
		for _, arm := range e.Arms {
			w.expressions(arm.Patterns...)
			w.expressions(arm.Value)
		}
	case *LetIn:
		for _, b := range e.Bindings {
			w.typed(b.Type)
			w.expressions(b.Value)
		}
		w.expressions(e.Body)
	case *Is:
		w.expressions(e.Operand)
		w.typed(e.Type)
	case *As:
		w.expressions(e.Operand)
		w.typed(e.Type)
	case *With:
		w.expressions(e.Of, e.Over)
		for _, c := range e.Changes {
			for _, key := range c.Path {
				w.key(key)
			}
			w.expressions(c.Value)
		}
	case *Lambda:
		w.parameters(e.Parameters)
		w.typed(e.Result)
		w.expressions(e.Body)
	case *For:
		w.expressions(e.In, e.Where)
		w.entries([]*Entry{e.Body})
	case *Call:
		w.expressions(e.Function)
		for _, a := range e.Arguments {
			w.expressions(a.Value)
		}
	case *Field:
		w.expressions(e.Of)
	case *Index:
		w.expressions(e.Of, e.Index)
	case *Places:
		w.expressions(e.Of)
		w.steps(e.Path.Steps)
	case *Patch:
		w.expressions(e.Target)
		w.declarations(e.Body)
	}
}

func (w *walker) ofType(t Type) {
	switch t := t.(type) {
	case *LiteralType:
		w.expressions(t.Value)
	case *UnionType:
		w.typed(t.Members...)
	case *OptionalType:
		w.typed(t.Of)
	case *ListType:
		w.typed(t.Element)
	case *SetType:
		w.typed(t.Element)
	case *TupleType:
		w.typed(t.Elements...)
	case *SchemaType:
		w.text(t.Reference)
	case *RecordType:
		for _, f := range t.Fields {
			w.typed(f.Type)
			w.expressions(f.Default)
		}
		w.typed(t.Rest)
	case *FunctionType:
		w.typed(t.Parameters...)
		w.typed(t.Result)
	case *LimitedType:
		w.typed(t.Of)
		for _, c := range t.Conditions {
			w.expressions(c.Test, c.Message)
		}
	}
}
