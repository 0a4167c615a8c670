package transfer

import (
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"redlocket/core/site"
)

// sampled is how many rows tell what a column holds.
const sampled = 200

// look is what a column's cells look like: how many of them.
type look struct {
	filled, address, email, setup, time, spaced, long, lines int
	secret                                                   float64 // how much like passwords they look, together
	host                                                     int     // that say the same as the address beside them
	distinct                                                 map[string]bool
}

func (l *look) share(n int) float64 { return float64(n) / float64(max(l.filled, 1)) }
func (l *look) most(n int) bool     { return l.filled > 0 && l.share(n) >= 0.6 }

// guess is the guessing of one table's columns.
type guess struct {
	t     Table
	out   []Column
	looks []look
	used  map[Meaning]bool
}

func newGuess(t Table) *guess {
	n := width(t)
	g := &guess{t: t, out: make([]Column, n), looks: make([]look, n), used: map[Meaning]bool{}}
	for i := range g.out {
		g.out[i] = Column{Name: "Column " + strconv.Itoa(i+1), Meaning: MeansOwn}
		if i < len(t.Header) && strings.TrimSpace(t.Header[i]) != "" {
			g.out[i].Name = strings.TrimSpace(t.Header[i])
		}
		g.looks[i].distinct = map[string]bool{}
	}
	for _, r := range t.Rows[:min(len(t.Rows), sampled)] {
		label := ""
		for _, c := range r.Cells {
			if label == "" && looksAddress(strings.TrimSpace(c)) {
				label = siteLabel(c)
			}
		}
		for i, c := range r.Cells[:min(len(r.Cells), n)] {
			if c = strings.TrimSpace(c); c != "" {
				g.looks[i].add(c, label)
			}
		}
	}
	return g
}

// siteLabel is the part of an address's host that names its site, letters and digits alone.
func siteLabel(address string) string {
	if !strings.Contains(address, "://") {
		address = "https://" + address
	}
	label, _, _ := strings.Cut(site.Domain(address), ".")
	return onlyWord(label)
}

func onlyWord(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, s)
}

// sameWord reports whether a title names the same as a host.
func sameWord(title, label string) bool {
	w := onlyWord(title)
	return len(label) >= 3 && len(w) >= 3 &&
		(strings.Contains(w, label) || len(w) >= 4 && strings.Contains(label, w))
}

func (l *look) add(c, label string) {
	l.filled++
	if len(l.distinct) < sampled {
		l.distinct[c] = true
	}
	count := func(n *int, yes bool) {
		if yes {
			*n++
		}
	}
	address, email := looksAddress(c), looksEmail(c)
	count(&l.address, address)
	count(&l.email, email)
	count(&l.setup, looksSetup(c))
	_, isTime := ParseTime(c)
	count(&l.time, isTime)
	count(&l.spaced, strings.ContainsRune(c, ' '))
	count(&l.long, len(c) > 60)
	count(&l.lines, strings.ContainsAny(c, "\r\n"))
	count(&l.host, !address && !email && sameWord(c, label))
	l.secret += likeSecret(c, address, email)
}

// likeSecret says how much a text looks like a password, from 0 to 1.
func likeSecret(c string, address, email bool) float64 {
	if address || email || strings.ContainsAny(c, "\n\r") || len(c) > 100 {
		return 0
	}
	var lower, upper, digit, sign float64
	for _, r := range c {
		switch {
		case unicode.IsLower(r):
			lower = 1
		case unicode.IsUpper(r):
			upper = 1
		case unicode.IsDigit(r):
			digit = 1
		case !unicode.IsLetter(r) && r != ' ' && r != '.' && r != '_':
			sign = 1
		}
	}
	score := 0.0
	switch n := lower + upper + digit + sign; {
	case n >= 3:
		score = 1
	case n == 2 && (digit > 0 || sign > 0):
		score = 0.7
	case n == 2:
		score = 0.2 // "Gull"
	default:
		score = 0.3 * digit
	}
	if strings.ContainsRune(c, ' ') {
		score /= 2
	}
	return score
}

func (g *guess) take(i int, m Meaning, how string, unsure bool) {
	g.out[i].Meaning, g.out[i].How, g.out[i].Unsure = m, how, unsure
	g.used[m] = true
}

// byName gives columns the meanings that their names have.
func (g *guess) byName() {
	for i := range min(len(g.out), len(g.t.Header)) {
		m, ok := byName[foldName(g.t.Header[i])]
		if ok && (!g.used[m] || m == MeansNothing || m == MeansAddress || m == MeansNotes || m == MeansTags) {
			g.take(i, m, "name", false)
		}
	}
}

// preferUsername chooses between a column for user names and one for e-mail addresses: the
// latter is the user name only where the former is empty, which [Read] sees to.
func (g *guess) preferUsername() {
	mail, name := -1, -1
	for i := range min(len(g.out), len(g.t.Header)) {
		if byName[foldName(g.t.Header[i])] != MeansUsername {
			continue
		}
		if isMail(g.t.Header[i]) && mail < 0 {
			mail = i
		} else if name < 0 {
			name = i
		}
	}
	if mail >= 0 && name >= 0 {
		empty := g.looks[name].filled == 0
		g.out[name].Meaning, g.out[name].How = MeansUsername, "name"
		g.out[mail].Meaning, g.out[mail].How = MeansOwn, "name"
		if empty {
			g.out[name].Meaning, g.out[mail].Meaning = MeansOwn, MeansUsername
		}
	}
}

// ofAccounts takes "Account" and the like for what its neighbours leave: the user name where another column names the
// site, the title where another one is for user names.
func (g *guess) ofAccounts() {
	named := func(m Meaning) int {
		return slices.IndexFunc(g.out, func(c Column) bool {
			return c.Meaning == m && strings.HasPrefix(foldName(c.Name), "account")
		})
	}
	other := func(m Meaning) int {
		for i := range min(len(g.out), len(g.t.Header)) {
			if g.out[i].How == "" && byName[foldName(g.t.Header[i])] == m {
				return i
			}
		}
		return -1
	}
	if at, site := named(MeansTitle), other(MeansAddress); at >= 0 && site >= 0 && !g.used[MeansUsername] {
		g.take(at, MeansUsername, "name", false)
		g.take(site, MeansTitle, "name", false)
	}
	if at, user := named(MeansUsername), other(MeansUsername); at >= 0 && user >= 0 && !g.used[MeansTitle] {
		g.take(at, MeansTitle, "name", false)
		g.take(user, MeansUsername, "name", false)
	}
}

// called returns the column that was taken for a meaning by its name; -1 for none.
func (g *guess) called(m Meaning) int {
	return slices.IndexFunc(g.out, func(c Column) bool { return c.Meaning == m && c.How == "name" })
}

// leave lets a column be guessed again.
func (g *guess) leave(i int) {
	m := g.out[i].Meaning
	g.out[i].Meaning, g.out[i].How = MeansOwn, ""
	g.used[m] = slices.ContainsFunc(g.out, func(c Column) bool { return c.Meaning == m && c.How != "" })
}

// disagree drops the meaning of a column's name where what is in the column can't be that.
func (g *guess) disagree() {
	if at := g.called(MeansPassword); at >= 0 && g.looks[at].most(g.looks[at].address) {
		g.leave(at)
	}
	if at := g.called(MeansUsername); at >= 0 && g.looks[at].most(g.looks[at].address) && !g.used[MeansAddress] {
		g.leave(at)
	}
	for i, c := range g.out { // "Site" may hold names
		if l := &g.looks[i]; c.Meaning == MeansAddress && c.How == "name" && l.filled > 0 && l.share(l.address) < 0.2 {
			other := slices.ContainsFunc(g.out, func(o Column) bool { return o.Meaning == MeansAddress && o != c })
			for j := range g.out {
				other = other || j != i && g.out[j].How == "" && g.looks[j].most(g.looks[j].address)
			}
			switch {
			case !g.used[MeansTitle]:
				g.take(i, MeansTitle, "content", !other)
				g.used[MeansAddress] = g.called(MeansAddress) >= 0
			case other:
				g.leave(i)
			}
		}
	}
	// "Name" is a title or the name of a user.
	at := g.called(MeansTitle)
	if at < 0 || g.used[MeansUsername] || !g.used[MeansAddress] || !g.used[MeansPassword] {
		return
	}
	if l := &g.looks[at]; l.filled > 0 && l.host == 0 && l.address == 0 {
		for i, c := range g.out {
			if c.How == "" && g.looks[i].filled > 0 && !g.looks[i].most(g.looks[i].spaced) {
				return // that may be the user name
			}
		}
		g.used[MeansTitle] = false
		g.take(at, MeansUsername, "content", l.share(l.email) < 0.3)
	}
}

// byContent gives the columns that are left a meaning by what is in them.
func (g *guess) byContent() {
	rows := min(len(g.t.Rows), sampled)
	var open []int
	for i, c := range g.out {
		if c.How != "" {
			continue
		}
		switch l := &g.looks[i]; {
		case l.most(l.address) && !g.used[MeansAddress]:
			g.take(i, MeansAddress, "content", false)
		case l.most(l.setup) && !g.used[MeansSetup]:
			g.take(i, MeansSetup, "content", false)
		case l.most(l.time) && !g.used[MeansChanged] && l.filled == rows && (g.used[MeansPassword] || len(g.out) > 3):
			g.take(i, MeansChanged, "content", false)
		case l.filled > 0:
			open = append(open, i)
		}
	}
	if len(g.t.Header) > 0 && g.used[MeansPassword] && g.used[MeansUsername] {
		return // what its header doesn't say is a custom field
	}
	if len(g.t.Header) > 0 && g.used[MeansPassword] {
		// only the user name is missing: e-mail addresses are one
		for _, i := range open {
			if l := &g.looks[i]; l.most(l.email) && !g.used[MeansUsername] {
				g.take(i, MeansUsername, "content", false)
			}
		}
		return
	}
	g.arrange(open[:min(len(open), 8)])
}

// worth says how well a column's content fits a meaning, by evidence of common practice.
func (g *guess) worth(i int, m Meaning) float64 {
	l := &g.looks[i]
	distinct := l.share(len(l.distinct))
	switch m {
	case MeansPassword:
		return 2*l.secret/float64(max(l.filled, 1)) + 0.5*distinct - l.share(l.host) - l.share(l.spaced)/2
	case MeansUsername:
		return 0.6 + 1.4*l.share(l.email) + 0.4*(1-distinct) - l.share(l.host) - l.share(l.spaced)/2 -
			l.share(l.long) - 2*l.share(l.lines)
	case MeansTitle:
		return 0.5 + 1.5*l.share(l.host) + 0.3*l.share(l.spaced) - l.share(l.long) - l.share(l.email) -
			2*l.share(l.lines)
	case MeansNotes:
		return 0.1 + 0.7*l.share(l.spaced) + l.share(l.long) - l.share(l.email) + 2*l.share(l.lines)
	}
	return 0
}

// arrange finds the best way to share out the open columns among password, user name, title and notes: all ways are
// weighed together, and where another one is almost as good its user is to look.
func (g *guess) arrange(open []int) {
	var free []Meaning
	for _, m := range []Meaning{MeansPassword, MeansUsername, MeansTitle, MeansNotes} {
		if !g.used[m] {
			free = append(free, m)
		}
	}
	type way struct {
		at    map[Meaning]int
		score float64
	}
	best, next := way{score: math.Inf(-1)}, way{score: math.Inf(-1)}
	at := map[Meaning]int{}
	taken := map[int]bool{}
	var try func(n int, score float64)
	try = func(n int, score float64) {
		if n == len(free) {
			p, hasP := at[MeansPassword]
			u, hasU := at[MeansUsername]
			if hasP && hasU && u < p { // as they are asked for
				score += 0.25
			}
			if t, ok := at[MeansTitle]; ok && (!hasU || t < u) && (!hasP || t < p) {
				score += 0.15
			}
			now := way{make(map[Meaning]int, len(at)), score}
			for m, i := range at {
				now.at[m] = i
			}
			differs := func(w way) bool {
				a, okA := w.at[MeansPassword]
				b, okB := w.at[MeansUsername]
				return okA != hasP || okB != hasU || a != p || b != u
			}
			switch {
			case now.score > best.score:
				if best.at != nil && differs(best) {
					next = best
				}
				best = now
			case now.score > next.score && differs(best):
				next = now
			}
			return
		}
		m := free[n]
		for _, i := range open {
			if !taken[i] {
				taken[i], at[m] = true, i
				try(n+1, score+g.worth(i, m))
				delete(at, m)
				taken[i] = false
			}
		}
		try(n+1, score-map[Meaning]float64{MeansPassword: 0, MeansUsername: 0, MeansTitle: -0.2, MeansNotes: -0.3}[m])
	}
	try(0, 0)
	unsure := best.score-next.score < 0.35
	for m, i := range best.at {
		g.take(i, m, "content", unsure && (m == MeansPassword || m == MeansUsername))
	}
}

func looksAddress(c string) bool {
	if strings.Contains(c, "://") {
		return !strings.HasPrefix(c, "otpauth://")
	}
	if strings.ContainsAny(c, " @\t") || len(c) > 300 {
		return false
	}
	head, _, _ := strings.Cut(c, "/")
	host, port, hasPort := strings.Cut(head, ":")
	if hasPort {
		if n, err := strconv.Atoi(port); err != nil || n < 1 || n > 65535 {
			return false
		}
	}
	if _, err := netip.ParseAddr(host); err == nil {
		return true
	}
	if host == "localhost" {
		return true
	}
	if !strings.Contains(host, ".") || strings.ToLower(host) != host && strings.ToUpper(host) != host {
		return false
	}
	host = strings.ToLower(host)
	last := host[strings.LastIndexByte(host, '.')+1:]
	return site.Domain("https://"+host) != "" && len(last) >= 2 &&
		strings.Trim(last, "abcdefghijklmnopqrstuvwxyz") == ""
}
