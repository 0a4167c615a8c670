package audit

import "strings"

// alike reports whether two user names of one site may be one and the same: by capitals alone, by one that is missing,
// or by one that was starred out so that the other fits it.
func alike(a, b string) bool {
	return a == "" || b == "" || strings.EqualFold(a, b) || fitsMask(a, b) || fitsMask(b, a)
}

// fitsMask reports whether name could be what a site starred out to mask:
// mt*****er is mtolliver. How many stars there are says nothing (common practice).
func fitsMask(mask, name string) bool {
	head, rest, starred := strings.Cut(strings.ToLower(mask), "*")
	if !starred {
		return false
	}
	tail := strings.TrimLeft(rest, "*")
	name = strings.ToLower(name)
	return len(name) >= len(head)+len(tail) && strings.HasPrefix(name, head) && strings.HasSuffix(name, tail) &&
		!strings.Contains(tail, "*")
}
