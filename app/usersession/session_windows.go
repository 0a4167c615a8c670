package usersession

import (
	"context"
	"errors"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"redlocket/app"
)

// pollWindows is how often the session is looked at.
const pollWindows = 2 * time.Second

// Of WTSQuerySessionInformationW, as Microsoft documents it (wtsapi32.h).
const (
	wtsSessionInfoEx = 25
	wtsCurrent       = ^uint32(0) // the caller's session
	wtsLocked        = 0          // WTS_SESSIONSTATE_LOCK
)

var (
	wtsapi   = windows.NewLazySystemDLL("wtsapi32.dll")
	wtsQuery = wtsapi.NewProc("WTSQuerySessionInformationW")
	wtsFree  = wtsapi.NewProc("WTSFreeMemory")
)

// wtsInfo is the beginning of WTSINFOEXW: its data is aligned to 8 bytes.
type wtsInfo struct {
	level, _              uint32
	session, state, flags uint32
}

// Watch tells of the user's session until ctx ends. Sleep is told by the clock, afterwards.
func Watch(ctx context.Context, on app.SessionEvents) {
	poll(ctx, pollWindows, on.Open, screenLocked, on.Locked)
}

var errNotTold = errors.New("the system doesn't tell whether the screen is locked")

func screenLocked() (bool, error) {
	if wtsQuery.Find() != nil || wtsFree.Find() != nil {
		return false, errNotTold
	}
	var info *wtsInfo
	var size uint32
	ok, _, _ := wtsQuery.Call(0, uintptr(wtsCurrent), wtsSessionInfoEx,
		uintptr(unsafe.Pointer(&info)), uintptr(unsafe.Pointer(&size)))
	if ok == 0 || info == nil {
		return false, errNotTold
	}
	defer func() { _, _, _ = wtsFree.Call(uintptr(unsafe.Pointer(info))) }()
	if size < uint32(unsafe.Sizeof(*info)) || info.level != 1 {
		return false, errNotTold
	}
	return info.flags == wtsLocked, nil
}
