// Package transfer brings items in from files and writes them out for others.
//
// # In
//
// [Read] finds out what a file is and turns its rows into items. [NewPlan] holds them against
// a vault and says of each what it is: new, known, known with something to add, or in
// disagreement; their user decides ([Plan.Decide], [Plan.DecideOne]); [Plan.Apply] gives the
// entries to write. Those remember the import, so that [Undo] can take it back on any
// day, on any device.
//
// What a file brings is joined with what is there as the edits of two devices are: the
// later value of a field stays, and the other goes into its past. A value of a file has the
// moment that the file gives it, or [Unknown], which is before every other. That is why the
// order of files and rows makes no difference, why a second import changes nothing, and
// why no password is ever lost.
//
// # Out
//
// [WriteJSON] writes everything: every item with its history and every field, also
// those of newer versions, so that [ReadJSON] gives back exactly the same entries.
// [WriteExchange] and [WriteCSV] write for other programs, which can't hold all of it.
//
// # What it leaves to others
//
// Sealing, files' bytes, and asking for the master password are package app's.
// Nothing here reads a clock or keeps anything. Everything that is read is bounded:
// [MaxBytes], [MaxItems], [MaxColumns].
package transfer
