package main

import "golang.org/x/sys/windows"

// hideWindow hides the console window if Windows opened it for this program alone.
func hideWindow() {
	const swHide = 0 // ShowWindow, winuser.h
	kernel, user := windows.NewLazySystemDLL("kernel32.dll"), windows.NewLazySystemDLL("user32.dll")
	if w, _, _ := kernel.NewProc("GetConsoleWindow").Call(); w != 0 {
		_, _, _ = user.NewProc("ShowWindow").Call(w, swHide)
	}
}
