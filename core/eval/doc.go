// Package eval compiles checked modules to closures and runs them. It exists to turn declarations into values: each
// when it is needed, each once, with its work counted so that it always ends.
//
// # Where to begin
//
// New makes a Program of checked modules: code that is compiled when it is first run and shared by all environments
// (program.go). World is the values of one environment; Value, Visit and Complete evaluate in it (world.go). A thread
// is one evaluation in a world: how much work it has done and how deep it is (thread.go). What a declaration needs it
// forces (force.go). There is one file for each part of the language; package check has a file for the same part under
// the same name.
//
// # Worlds
//
//   - A declaration has its value in one world (World.home): in that of the constants, when it depends on neither
//     inputs nor the environment; in that of the environment, when it depends on the environment alone; else in that of
//     the instance, or of the environment for the main module. check.Object.NeedsInput and NeedsEnvironment decide.
//   - The states of a world are those of the declarations from base on; a state goes from waiting to running to done or
//     failed, and never back. Its value is written before done is stored, and read after done is loaded.
//   - What is evaluated together is one evaluation: an environment with its instances, or the constants with theirs. It
//     has one budget and one list of findings. An instance belongs to the evaluation of who made it.
//   - A variant has values of its own for the declarations that depend on the inputs, or on the environment, in which it
//     differs from another world; for the others World.home returns that world (variant.go).
//
// # The lock of the constants
//
// Worlds of environments run side by side, each in one goroutine. They share one world, that of the constants with
// its instances. Who evaluates anything in it, or changes its list of instances, holds its lock: force, visit, take,
// complete, instantiate and the evaluation of a document take it (thread.lock) when the world is one of the
// constants and the thread does not hold it already. That it does is proved by a lockHeld, which only lock makes and
// which an inner evaluation inherits. A document is evaluated later than it is visited, by another thread: whoever
// asks for its value says whether it holds the lock. Constants that need each other are so evaluated by one
// goroutine, whichever comes first. The findings of the constants have a lock of their own, since they are also
// read.
//
// # Frames
//
// Code runs on a frame: the local values of one declaration, function, condition or default, by the places that the
// checker gave them. Frames of calls are taken from the stack of the thread and given back; a function that is a value
// has a copy of the frame that it was made in. A place is written before it is read, in the order of the source.
//
// # How an evaluation ends early
//
// What is wrong is reported as a finding, and then the evaluation of the declaration is given up by a panic with abort,
// which guard and attempt take back. An evaluation that stops without a finding is an error in the program: attempt
// notes it, and Stopped tells it to whoever renders, so that no document is dropped silently. A condition of a type
// that cannot be computed does not hold (notHeld).
//
// # What is hidden
//
// A value may be secret, or not known before deployment (value.Mark). A mark passes to all that is computed from the
// value, and nothing is decided by it: which branch is taken, how many elements there are, which keys, which member of
// a union (marks.go). What is not known has only a kind.
//
// # Recording
//
// A world may have a Recorder, which writes down for each value what it was computed from and chosen by (recorder.go).
// A thread asks for it at run time; without one, origins are places of the source. A function runs in the world that it
// was made in, but is recorded for who called it. The constants are never recorded: they depend on nothing that differs
// between environments.
//
// A Recorder also knows where each line of a text came from that was put together of others (textlines.go). The lines
// of constants are in a table of the program, which who holds their lock writes, and all environments read.
package eval
