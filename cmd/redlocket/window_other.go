//go:build !windows

package main

// hideWindow does nothing: only Windows opens a window for a program without one.
func hideWindow() {}
