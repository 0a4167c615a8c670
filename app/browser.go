package app

import "time"

// Browser is one browser with the extension.
type Browser struct {
	ID    string
	Name  string
	Words []string  // while it waits to be confirmed
	Since time.Time // once connected
}
