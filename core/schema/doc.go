// Package schema reads schemas and validates data against them: JSON Schema in the dialects 2020-12, 2019-09, draft 7,
// draft 6 and draft 4. It exists so that what is rendered, and what others wrote, is known to be right before
// anything is deployed, with findings that say in words what was expected.
//
// A Store holds documents with schemas. What is in them is known by its place: each record or bool that is a schema has
// one Schema, whoever refers to it. A Schema is compiled when it is first used, once; so a large document costs what is
// used of it.
//
// These things hold and must stay so:
//
//   - A schema document was read from a file, so that each value in it has a place of its own. Schemas, and the
//     resources that begin at one (JSON Schema 2020-12, section 4.3.5), are known by these places.
//   - Nothing is fetched: a reference leads to a document that was added, to one that the store's own Load knows, or to
//     a metaschema, which are part of the program.
//   - What is certain (certain.go) is right: the short way never says so of a value that a whole validation would say
//     anything about, be it a problem, an error in the schema, or that something is not known.
//   - The first look at a value collects nothing and stops at the first error. Only what fails is looked at again, to
//     say why. Both are the same code: a nil sink is the first look.
//   - What is not known of a value (a secret, a value that is open) is neither right nor wrong. Whatever would turn
//     right into wrong (not, oneOf, if, a largest number of elements) asks whether something was open on the way.
package schema
