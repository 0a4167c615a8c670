package wording

import (
	"errors"
	"syscall"
)

// Result codes of SQLite, without what they say more (sqlite.org, "Result and Error Codes"; from memory).
const (
	sqliteBusy     = 5
	sqliteLocked   = 6
	sqliteReadOnly = 8
	sqliteIOErr    = 10
	sqliteCorrupt  = 11
	sqliteFull     = 13
	sqliteCantOpen = 14
	sqliteNotADB   = 26
)

// diskError puts what a disk refuses into words: of the files that vaults are kept in, and of any other. The store's
// library isn't known here, which runs where it doesn't: its errors say their code.
func diskError(err error) (words string, ok bool) {
	var in interface{ Code() int }
	code := -1
	if errors.As(err, &in) {
		code = in.Code() & 0xff
	}
	switch {
	case code == sqliteFull, errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EDQUOT):
		return "there is no room left on this computer’s disk", true
	case code == sqliteReadOnly, code == sqliteCantOpen, errors.Is(err, syscall.EROFS):
		return "the folder with your data can’t be written to on this computer", true
	case code == sqliteIOErr:
		return "this computer’s disk didn’t take it: it may be full, or broken", true
	case code == sqliteCorrupt, code == sqliteNotADB:
		return "the file that holds this vault is damaged on this computer: restore a backup, or bring the vault " +
			"here again from its cloud", true
	case code == sqliteBusy, code == sqliteLocked:
		return "another program holds the file of this vault; try again", true
	}
	return "", false
}
