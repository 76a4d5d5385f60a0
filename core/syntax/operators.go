package syntax

import (
	"fmt"

	"knothole/core/source"
)

// Levels of the binary operators, loosest first.
const (
	levelOr = iota
	levelAnd
	levelComparison // which `not` binds looser than
	levelDefault
	levelRange
	levelAdd
	levelMultiply
	levelUnary // tighter than any operator
)

// operatorOf returns the binary operator that a word or sign is, and how tightly it binds.
func operatorOf(text string) (operator Operator, level int, ok bool) {
	switch text {
	case "or":
		return Or, levelOr, true
	case "and":
		return And, levelAnd, true
	case "is":
		return isOperator, levelComparison, true
	case "==":
		return Equal, levelComparison, true
	case "!=":
		return NotEqual, levelComparison, true
	case "<":
		return Less, levelComparison, true
	case "<=":
		return LessEqual, levelComparison, true
	case ">":
		return Greater, levelComparison, true
	case ">=":
		return GreaterEqual, levelComparison, true
	case "in":
		return In, levelComparison, true
	case "not":
		return NotIn, levelComparison, true
	case "matches":
		return Matches, levelComparison, true
	case "??":
		return Default, levelDefault, true
	case "..":
		return Range, levelRange, true
	case "+":
		return Add, levelAdd, true
	case "-":
		return Subtract, levelAdd, true
	case "*":
		return Multiply, levelMultiply, true
	case "/":
		return Divide, levelMultiply, true
	case "%":
		return Remainder, levelMultiply, true
	}
	return 0, 0, false
}

// operatorAhead returns the operator at the current token, if the expression goes on with it.
func (p *parser) operatorAhead() (operator Operator, level int, ok bool) {
	t := &p.tokens[p.at]
	if t.kind != tokenSign && t.kind != tokenWord {
		return 0, 0, false
	}
	operator, level, ok = operatorOf(p.text[t.start:t.end])
	if !ok {
		return 0, 0, false
	}
	if operator == NotIn {
		switch {
		case p.peek(1).is(p, "matches"):
			operator = NotMatches
		case !p.peek(1).is(p, "in"):
			return 0, 0, false
		}
	}
	return operator, level, p.continues()
}

// continues reports whether the current token, which could continue an expression, does so although it may be on
// a new line.
func (p *parser) continues() bool {
	t := p.token()
	if !t.newline || p.free {
		return true
	}
	if p.sign("-") || p.arms && p.sign("is") {
		return false
	}
	return !p.entryAhead()
}

// entryAhead reports whether a key and what is behind one come next, which begins an entry also where the key is
// a word of the language, or begins with one.
func (p *parser) entryAhead() bool {
	if p.sign("*") {
		return p.peek(1).is(p, ":")
	}
	if p.token().kind != tokenWord {
		return false
	}
	end, _ := p.keyEnd()
	next := p.tokens[min(end, len(p.tokens)-1)]
	return next.is(p, ":") || next.is(p, "?:") || next.is(p, ".") && next.start == p.tokens[end-1].end
}

// binary reads operands joined by operators that bind at least as tightly as a level. Comparisons and ranges do not
// chain, ?? groups to the right.
func (p *parser) binary(least int) Expression {
	start := p.token().start
	var left Expression
	before := levelUnary // the level of the operator before
	if least <= levelComparison && p.sign("not") {
		p.at++
		p.enter()
		operand := p.binary(levelComparison)
		p.leave()
		left, before = &Unary{node: p.node(start), Operator: Not, Operand: operand}, levelComparison
	} else {
		left = p.unary()
	}
	for chain := 0; ; chain++ {
		operator, level, ok := p.operatorAhead()
		if !ok || level < least {
			return left
		}
		if level >= before && (level == levelComparison || level == levelRange) {
			p.failHere(source.Syntax, fmt.Sprintf("%q cannot follow another comparison or range", operator),
				"join two comparisons with and, or use parentheses")
		}
		if chain >= maxChain {
			p.failHere(source.TooDeep, fmt.Sprintf("more than %d operators in a row", maxChain),
				"give parts a name with let")
		}
		before = level
		sign := p.spanOf(p.token())
		p.at++
		if operator == isOperator {
			left = &Is{Operand: left, Type: p.askedType(), node: p.node(start)}
			continue
		}
		if operator == NotIn || operator == NotMatches {
			sign.End = p.spanOf(p.token()).End
			p.at++
		}
		var right Expression
		if level == levelDefault {
			p.enter()
			right = p.binary(level)
			p.leave()
		} else {
			right = p.binary(level + 1)
		}
		left = &Binary{node: p.node(start), Operator: operator, OperatorSpan: sign, Left: left, Right: right}
	}
}

func (p *parser) unary() Expression {
	start := p.token().start
	if !p.sign("-") {
		return p.postfix()
	}
	p.at++
	if p.token().kind == tokenNumber {
		return p.changes(start, p.steps(start, p.number(start, true)))
	}
	p.enter()
	operand := p.unary()
	p.leave()
	return &Unary{node: p.node(start), Operator: Negate, Operand: operand}
}
