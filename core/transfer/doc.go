// Package transfer brings items in from files and writes them out for others.
//
// # Out
//
// [WriteJSON] writes everything: every item with its history and every field, also
// those of newer versions, so that [ReadJSON] gives back exactly the same entries.
// [WriteCSV] writes a table for other programs, which can't hold all of it.
//
// # What it leaves to others
//
// Sealing, files' bytes, and asking for the master password are package app's.
// Nothing here reads a clock or keeps anything.
package transfer
