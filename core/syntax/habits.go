package syntax

import "fmt"

// Users bring habits from other languages. Such syntax is invalid here, but its meaning is clear, so the help shows the
// equivalent. It is selected by the expected syntax, the token found, and the token before it.

// declarationHabits are words with which other languages begin declarations.
var declarationHabits = map[string]string{
	"export": publicHelp, "pub": publicHelp, "public": publicHelp, "private": publicHelp, "protected": publicHelp,
	"static":    publicHelp,
	"interface": typeHelp, "struct": typeHelp, "class": typeHelp, "record": typeHelp, "object": typeHelp,
	"schema": typeHelp, "data": typeHelp, "enum": `a type of a few values is written: type T = "a" | "b"`,
	"print": remarkHelp, "println": remarkHelp, "echo": remarkHelp, "log": remarkHelp, "console": remarkHelp,
	"assert": `what must hold is written: require condition else "message"`,
	"return": "a value is not returned: what is rendered is a document, what scripts read an output",
	"while":  loopHelp, "foreach": loopHelp, "switch": matchHelp,
}

const (
	publicHelp = "other modules can use every declaration; a name that begins with _ is private: leave this word out"
	typeHelp   = "a record type is written: type T = { name: string, port: int }"
	remarkHelp = `a sentence for the person who renders is written: remark "…"`
	loopHelp   = "a loop is written: for x in xs where c -> x"
	matchHelp  = "a choice among several is written: match x { 1 -> a, 2 -> b, else -> c }"
	elseHelp   = "the branch for everything else is written: else -> …"
	lambdaHelp = "an anonymous function is written: fn(x) = …"
	mapHelp    = "a map is written { *: T }, where T is the type of its values"
)

// valueHabits are words that come before or between values in other languages.
var valueHabits = map[string]string{
	"throw": `a failure is written: fail("message")`, "raise": `a failure is written: fail("message")`,
	"new": "a module is called like a function: service(name: …)", "while": loopHelp, "foreach": loopHelp,
	"switch": matchHelp, "case": matchHelp, "struct": typeHelp, "class": typeHelp,
	"enum": `a type of a few values is written: type T = "a" | "b"`,
	"div":  "/ between ints leaves out the remainder", "mod": "the remainder is written with %",
	"contains": "text.contains looks for a part of a string, x in xs for an element", "xor": "a != b, of bools",
	"otherwise": elseHelp,
}

// typeHabits are how other languages write types before a bracket.
var typeHabits = map[string]string{
	"map": mapHelp, "dict": mapHelp, "Map": mapHelp, "Dict": mapHelp, "Record": mapHelp, "record": mapHelp,
	"Optional": "a type that takes null, too, is written T?", "Option": "a type that takes null, too, is written T?",
	"Maybe": "a type that takes null, too, is written T?", "Nullable": "a type that takes null, too, is written T?",
	"List": "a list of a type is written [T]", "list": "a list of a type is written [T]",
	"Array": "a list of a type is written [T]", "Set": "a set of a type is written {T}",
	"set": "a set of a type is written {T}",
}

// verbHabits are the names of patch operations in other languages.
var verbHabits = map[string]string{"set": "put", "update": "replace", "change": "replace",
	"delete": "remove", "del": "remove",
	"unset": "remove", "insert": "add", "append": "add", "assign": "put", "overwrite": "replace"}

// The names that the parser uses for expected syntax.
const (
	expectsBody      = `"=" and the body of the function`
	expectsValue     = `"=" and a value`
	expectsOperand   = "a value"
	expectsLineEnd   = "the end of the line"
	expectsPattern   = `a literal, "is" and a type, or "else"`
	expectsName      = "the name of the value"
	expectsThen      = `"then" after the condition`
	expectsElement   = `"->" and what to make of each element`
	expectsIn        = `"in" and what to go through`
	expectsLoopName  = "a name for each element"
	expectsInputType = `":" and the type of the input`
	expectsPatched   = `":" and a value after the path`
	expectsTypeBody  = `"=" after the name of the type`
)

// habit returns the equivalent of foreign syntax, or an empty string.
func (p *parser) habit(what string) string {
	found, before, next := p.current(), p.textOf(p.tokens[max(0, p.at-1)]), p.peek(1)
	switch what {
	case expectsBody:
		switch found {
		case "{":
			return "the body is one value after =: fn f(x: T) -> R = …; let a = …, b = … then … names parts of it"
		case ":":
			return "the type of the result is written with an arrow: fn f(x: T) -> R = …"
		}
	case expectsValue:
		switch {
		case found == "[" && next.is(p, "]"):
			return fmt.Sprintf("a list of a type is written [%s]", before)
		case found == "[" || found == "<":
			return typeHabits[before]
		case found == "{":
			return "the data follows =: write = before it"
		case p.token().kind == tokenEnd || p.token().newline:
			return "the value follows =; what comes after a colon is its type"
		}
	case expectsOperand:
		switch {
		case found == "|":
			return lambdaHelp
		case found == "+" && before == "+":
			return "+ joins strings and lists, and adds numbers"
		case found == "*" && before == "*":
			return "a power is written math.pow(base, exponent)"
		case found == "/" && before == "/":
			return "a comment begins with #; / between ints leaves out the remainder"
		case found == "=" && before == "==":
			return "== compares values, and never converts them"
		case found == ">" && before == "<":
			return "inequality is written !="
		case found == "." && next.kind == tokenNumber:
			return "write 0 before the point: 0." + p.textOf(next)
		case found == "..", found == "<" && before == "..":
			return "a range has both ends, which belong to it: 1..10"
		}
	case expectsPattern:
		switch found {
		case "_", "default", "otherwise", "*":
			return elseHelp
		case "case", "when":
			return "a branch has no word before it: 1 -> a"
		}
	case expectsName:
		if found == "(" || found == "[" || found == "{" {
			return "each let names one value: let a = xs[0], or a = r.a"
		}
	case expectsThen:
		return "a choice is written: if c then a else b"
	case expectsElement:
		if found == "{" || found == ":" || found == "=>" || found == "=" {
			return loopHelp
		}
	case expectsIn, expectsLoopName:
		return loopHelp
	case expectsInputType:
		switch found {
		case "?:", "?":
			return "an input that may be missing is written: input x: T? = null"
		default:
			return "an input has a type: input x: string = …"
		}
	case expectsPatched:
		if found == "=" {
			return "a change is written with a colon: replace .a: 2"
		}
	case expectsTypeBody:
		switch found {
		case "{":
			return typeHelp
		case "<", "[", "(":
			return "types have no parameters of their own"
		}
	}
	if what == expectsLineEnd {
		switch {
		case (found == "=" && next.is(p, ">") || found == "->") && before != "":
			return lambdaHelp
		case found == "," && p.token().kind == tokenSign:
			return "each declaration names one thing, on a line of its own"
		}
	}
	return ""
}

// wordHabit returns the help for a word of another language before or after a value, or an empty text.
func (p *parser) wordHabit() string {
	before := p.tokens[max(0, p.at-1)]
	if help := valueHabits[p.textOf(before)]; help != "" && before.kind == tokenWord {
		return help
	}
	if help := valueHabits[p.current()]; help != "" && p.token().kind == tokenWord {
		return help
	}
	if p.sign("default") {
		if p.peek(1).is(p, "->") {
			return elseHelp
		}
		return "a default is written after =: input x: int = 3"
	}
	if p.sign("|") && before.is(p, "}") {
		return "records are laid over each other: a with b; or their entries are spread: { ...a, ...b }"
	}
	return ""
}
