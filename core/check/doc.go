// Package check checks modules against types before anything is evaluated. It exists so that an error is reported
// where it was written, for all environments at once.
//
// # Where to begin
//
// Check takes modules in an order in which each comes after those that it uses. For each it enters the names of all
// declarations (declare), finds their types and checks what they are made of (resolve), and then looks at all of them
// together: what depends on inputs or the environment (propagate), what depends on itself (cycles), which types have no
// values, which limits and tests need what they cannot have, and what nothing uses. resolve is asked for a declaration
// when it is first needed, wherever it stands; one that is asked for again while it is being resolved is part of a
// cycle, and has the type Invalid until the cycle is reported.
//
// There is one file for each part of the language; package eval has a file for the same part under the same name.
// Expressions are checked in two ways (expression.go): check passes an expected type down, so that an error is
// reported at the part that is wrong; infer finds the type of what nothing is expected of. What is known of a value by
// a condition around it is in narrow.go.
//
// # What holds
//
//   - A error is reported once. What cannot be known because of it has the type Invalid, which fits everywhere.
//   - Object.Invalid says that a declaration cannot be evaluated. It is set while its module is checked: by a finding
//     with the severity Error while it is the current owner, by what it refers to, and for all of a cycle. After that
//     only the trial of literals sets it (eval.Program.TryLiterals), before anything is evaluated. Nothing takes it
//     back.
//   - Object.NeedsInput and Object.NeedsEnvironment of a module are final when the next module is checked. Evaluation
//     relies on them to decide in which world a value is kept: what has neither is the same in all environments.
//   - A name has one place in the frame of the declaration that it is in (Object.Slot, Object.Frame). Places are
//     given out by bind and withIt and never given back, so that two names of a declaration never share one, and an
//     anonymous function can keep a copy of the frame that it was made in. `it` of a condition of a type is place 0 of
//     a frame of its own.
//   - Info holds what was learned of an expression under its ID. Info.Types is what the expression is by itself.
//     Info.Targets is the type that it passes into, where passing may change the value or fail; evaluation converts
//     exactly there. A literal that passes as a whole leaves the conversion to the whole: its parts have no Target, and
//     no type of their own any more (uncover).
//   - What evaluation may assume: the value of an expression is of its type as it is (types.Fits), once it has
//     passed into its Target. The tests of the core hold this on generated programs.
//   - Nothing is asked of a declared type that is still being resolved (whenKnown): checks that need the whole of it
//     wait until no type is in hand.
package check
