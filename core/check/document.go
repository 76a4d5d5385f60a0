package check

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// checkDocument checks a document, which may be in a block, and returns the type of its value.
func (c *checker) checkDocument(d *syntax.Document) types.Type {
	if d.Path != nil {
		c.check(d.Path, types.String, "the path of a document")
		format, ending := d.Format.Name, ""
		if s, ok := d.Path.(*syntax.String); ok && len(s.Parts) > 0 {
			last := s.Parts[len(s.Parts)-1]
			if dot := strings.LastIndexByte(last.Text, '.'); dot >= 0 && !strings.Contains(last.Text[dot:], "/") {
				ending = last.Text[dot+1:]
			}
			switch {
			case format != "" && !slices.Contains(data.Extensions(), format):
				help := c.suggestions.Suggest(format, data.Extensions(), "formats are "+strings.Join(data.Extensions(), ", "))
				c.report(source.UnknownFormat, d.Format.Span, help, "there is no format %q", format)
			case d.Stream && last.Value == nil && ending != "yaml" && ending != "yml":
				c.report(source.UnknownFormat, d.Path.Place(), "end the path with .yaml or .yml",
					"only YAML files hold several documents")
			case format == "" && last.Value == nil && !slices.Contains(data.Extensions(), ending):
				c.report(source.UnknownFormat, d.Path.Place(),
					"end it with ."+strings.Join(data.Extensions(), ", .")+`, or write "as" and a format, such as txt`,
					"this path has no file extension of a known format")
			}
		}
	}
	if d.Value == nil {
		return types.Invalid
	}
	t := c.typedValue(d.Type, d.Value, "the document")
	c.checkData(t, d.Value, "a document")
	if d.Stream && !types.Assignable(t, c.universe.List(types.Any)) {
		c.report(source.WrongType, d.Value.Place(), "write document for a single one",
			"a stream is a list of documents, not %s", types.Describe(t))
	}
	return t
}

// checkStatement checks what has no name: a remark, a requirement, or a block.
func (c *checker) checkStatement(d syntax.Declaration) {
	switch d := d.(type) {
	case *syntax.Document:
		c.checkDocument(d)
	case *syntax.Remark:
		c.check(d.Value, types.String, "a remark")
	case *syntax.Require:
		c.check(d.Condition, types.Bool, "what is required")
		c.messageOf(d.Condition, d.Message)
	case *syntax.Include:
		c.checkInclude(d)
	case *syntax.PatchAll:
		c.checkPatchAll(d)
	case *syntax.Each:
		c.checkEach(d)
	case *syntax.Operation:
		c.checkOperation(d)
	case *syntax.Expect:
		c.checkExpect(d)
	case *syntax.Let:
		t := c.typedValue(d.Type, d.Value, fmt.Sprintf("%q", d.Name.Name))
		c.bind(d.Name, t)
	case *syntax.IfBlock:
		c.check(d.Condition, types.Bool, "a condition")
		facts := c.facts
		c.assume(d.Condition, true)
		c.forgetEach()
		c.checkBlock(d.Then)
		c.facts = facts
		c.assume(d.Condition, false)
		c.forgetEach()
		c.checkBlock(d.Else)
		c.facts = facts
	case *syntax.ForBlock:
		key, element := c.loopTypes(d.Loop, c.infer(d.Loop.In, nil))
		outer, facts := c.scope, c.facts
		c.bindLoop(d.Loop, key, element)
		if c.patching != nil {
			c.patching.touchAll(d.Body)
		}
		c.forgetEach()
		c.checkBlock(d.Body)
		c.facts = facts
		c.unbind(outer, d.Span.End)
	}
}

// messageOf checks the text that is told when a condition does not hold.
func (c *checker) messageOf(condition, message syntax.Expression) {
	if message == nil {
		return
	}
	facts := c.facts
	c.assume(condition, false)
	c.check(message, types.String, "a message")
	c.facts = facts
}

// checkBlock checks the declarations of a block, of which names are known to those after them.
func (c *checker) checkBlock(declarations []syntax.Declaration) {
	outer := c.scope
	end := source.NoPos
	for _, d := range declarations {
		c.checkStatement(d)
		end = d.Place().End
	}
	c.unbind(outer, end)
}

// Contents is what a declaration without a name contains, in its blocks too.
type Contents struct {
	// Rendered is the word of the first that adds to what is rendered: document, stream, include or remark; empty when
	// none does.
	Rendered string
	Requires bool // there is a requirement
}

// ContentsOf returns what a declaration contains.
func ContentsOf(d syntax.Declaration) Contents {
	var contents Contents
	found := func(word string) {
		if contents.Rendered == "" {
			contents.Rendered = word
		}
	}
	syntax.Inspect(d, func(n syntax.Node) bool {
		switch d := n.(type) {
		case *syntax.Document:
			if d.Stream {
				found("stream")
			} else {
				found("document")
			}
		case *syntax.Include:
			found("include")
		case *syntax.Remark:
			found("remark")
		case *syntax.Require:
			contents.Requires = true
		case *syntax.IfBlock, *syntax.ForBlock:
			return true
		}
		return false
	})
	return contents
}
