// Package kinds holds the kinds of stages, a file each: how a kind is written in a procedure, what is checked, what it
// tells those who ask about its actions, and how it runs.
//
// To add a kind write its file and add a line to the list in core/catalogue. A kind is a [procedure.Kind]; its Read
// gives an action that implements [stage.Runnable], and the interfaces of package procedure where it has something to
// say: a duration, the setpoints that occur, the columns that it reads. Check, preflight, rehearsal, console, command
// line and report ask the action and know no kind.
package kinds
