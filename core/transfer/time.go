package transfer

import (
	"strconv"
	"strings"
	"time"
)

// sinceUnix is from 1601-01-01, where some browsers' clocks begin, to 1970-01-01, in
// microseconds.
const sinceUnix = 11644473600000000

// The moments that a date in a file may have, in milliseconds since 1970: before 1990
// nobody had a login, and what is a century ahead was read wrongly.
const (
	firstMoment = 631152000000
	lastMoment  = 4765132800000
)

var layouts = []string{
	time.RFC3339Nano, "2006-01-02T15:04:05.999", "2006-01-02 15:04:05.999", "2006-01-02 15:04:05.999 " +
		"-0700", "2006-01-02 15:04:05.999 MST",
	"2006-01-02 15:04", time.DateOnly, "2006/01/02 15:04:05", "2006/01/02", "02.01.2006 15:04:05", "02.01.2006 15:04",
	"2.1.2006",
	time.RFC1123, time.RFC1123Z, time.RFC850, time.ANSIC, time.UnixDate, "2 Jan 2006 15:04:05", "2 Jan 2006",
	"January 2, 2006", "Jan 2, 2006",
}

// ParseTime reads a moment as files write it: seconds, milliseconds or microseconds
// since 1970, microseconds since 1601, or a date with or without a time (UTC if it
// doesn't say). The answer is in milliseconds since 1970; ok is false for anything
// else, and for moments that no login can have.
func ParseTime(s string) (ms int64, ok bool) {
	s = strings.TrimSpace(s)
	if s == "" || len(s) > 60 {
		return 0, false
	}
	if n, err := strconv.ParseFloat(s, 64); err == nil {
		for _, ms := range []int64{int64(n * 1000), int64(n), int64(n / 1000), int64((n - sinceUnix) / 1000)} {
			if ms >= firstMoment && ms <= lastMoment {
				return ms, true
			}
		}
		return 0, false
	}
	for _, l := range layouts {
		if t, err := time.Parse(l, s); err == nil {
			ms = t.UnixMilli()
			return ms, ms >= firstMoment && ms <= lastMoment
		}
	}
	return 0, false
}
