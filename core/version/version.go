// Package version says which Red Locket this is: in the program, its pages and the extension.
package version

import "runtime/debug"

// Number is the version that is being worked on or was released last, by the rules of
// semantic versioning. The extension's manifest has the same.
const Number = "0.2.0"

// built is set by the linker where a release is packed.
var built string

// String is the number with what it was built from: "0.2.0 (a1b2c3d4e5f6)".
func String() string {
	from := built
	if info, ok := debug.ReadBuildInfo(); ok && from == "" {
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" {
				from = s.Value[:min(len(s.Value), 12)]
			}
		}
	}
	if from == "" {
		return Number
	}
	return Number + " (" + from + ")"
}
