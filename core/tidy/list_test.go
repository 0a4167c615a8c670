package tidy

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"redlocket/core/vault"
)

// A household's list of some 600 rows, made up with what befalls such lists over the years, and the account that each
// row truly is of. The mess is made from accounts by what browsers, sites and people do to them, without asking this
// package's rules.

type person struct {
	first, last, mail, oldMail, work, phone string
	habit                                   string // the password that is used everywhere
}

// account is one true login.
type account struct {
	n        int
	who      *person
	name     string
	host     string
	title    string
	password string
}

type mess struct {
	r     *rand.Rand
	rows  []kept
	truth []int          // the account of each row
	hard  map[int]bool   // rows that can be known by little only
	count map[string]int // of each kind of mess
}

func (m *mess) pick(list ...string) string { return list[m.r.IntN(len(list))] }

func (m *mess) word() string {
	on := strings.Fields("b br c cl d f g gr h k l m n p pl qu r s sk sl t th tr v w")
	in := strings.Fields("a e i o u ai ea oo")
	out := strings.Fields("l n r t m st ck nd rk p")
	return m.pick(on...) + m.pick(in...) + m.pick(out...) + m.pick(in...) + m.pick(out...)
}

func (m *mess) madePassword() string {
	const signs = "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789!#$%+-=?@"
	b := make([]byte, 14)
	for i := range b {
		b[i] = signs[m.r.IntN(len(signs))]
	}
	return string(b)
}

func (m *mess) password(p *person) string {
	switch m.r.IntN(4) {
	case 0:
		return p.habit
	case 1:
		return p.habit + m.pick("1", "2", "!", "2019", "2024")
	case 2:
		return m.word() + m.pick("-", "7", "!") + m.word()
	}
	return m.madePassword()
}

func (m *mess) row(a *account, k kept) {
	m.rows = append(m.rows, k)
	m.truth = append(m.truth, a.n)
}

func (m *mess) swapLetters(s string) string {
	b := []byte(s)
	for range 20 {
		i := 1 + m.r.IntN(len(b)-2)
		letter := func(c byte) bool { return c >= 'a' && c <= 'z' }
		if letter(b[i]) && letter(b[i+1]) && b[i] != b[i+1] {
			b[i], b[i+1] = b[i+1], b[i]
			break
		}
	}
	return string(b)
}

func (m *mess) star(s string) string {
	first, host, mail := strings.Cut(s, "@")
	switch {
	case mail && m.r.IntN(2) == 0:
		return first[:1] + "***@" + host[:1] + "*****" + host[strings.LastIndex(host, "."):]
	case mail:
		return first[:2] + strings.Repeat("*", len(first)-2) + "@" + host
	case len(s) > 5:
		return s[:2] + "*****" + s[len(s)-2:]
	}
	return s[:1] + "•••" + s[len(s)-1:]
}

// spoil adds a second row of an account, as one more browser or year would.
func (m *mess) spoil(a *account) {
	k := kept{title: a.title, address: "https://" + a.host + "/login", user: a.name, password: a.password}
	kinds := []string{
		"http", "www", "path", "port", "capitals", "blank", "mask", "first part", "typing", "telephone", "old mail", "no name",
		"changed", "variant", "app", "no address", "refused",
	}
	kind := m.pick(kinds...)
	hard := false
	switch kind {
	case "http":
		k.address = "http://" + a.host + "/"
	case "www":
		k.address = "https://www." + a.host
	case "path":
		k.address = "https://" + a.host + "/account/signin?next=/"
	case "port":
		k.address = "https://" + a.host + ":443/"
	case "capitals":
		k.user = strings.ToUpper(a.name[:1]) + a.name[1:]
	case "blank":
		k.user = a.name + " "
	case "mask":
		k.user = m.star(a.name)
	case "first part":
		first, _, ok := strings.Cut(a.name, "@")
		if !ok {
			return
		}
		k.user = first
	case "typing":
		k.user = m.swapLetters(a.name)
	case "telephone":
		if a.name != a.who.phone {
			return
		}
		k.user = "0" + strings.ReplaceAll(strings.TrimPrefix(a.name, "+44 "), " ", "")
	case "old mail":
		if a.name != a.who.mail {
			return
		}
		k.user, hard = a.who.oldMail, true
	case "no name":
		k.user = ""
	case "changed":
		k.password = m.password(a.who)
	case "variant":
		k.password += m.pick("1", "!", "2020")
	case "app":
		label, _, _ := strings.Cut(a.host, ".")
		k.address, k.app = "", "example."+label+".android"
	case "no address":
		k.address = ""
	case "refused":
		k.user, k.password, hard = "", a.password[:len(a.password)-1], true
	}
	m.count[kind]++
	if hard {
		m.hard[len(m.rows)] = true
	}
	m.row(a, k)
}

func household(r *rand.Rand) *mess {
	m := &mess{r: r, hard: map[int]bool{}, count: map[string]int{}}
	last := m.word()
	var people []*person
	for range 4 {
		first := m.word()
		people = append(people, &person{
			first: first, last: last, mail: first + "." + last + "@cormorant.example",
			oldMail: first + last + "@oldmail.example", work: first[:1] + last + "@works.example",
			phone: fmt.Sprintf("+44 7700 9%05d", r.IntN(100000)), habit: m.word() + m.word(),
		})
	}
	n := 0
	for len(m.rows) < 600 {
		label := m.word() + m.pick("", m.word())
		host := label + m.pick(".example", ".test", ".invalid")
		users := []*person{people[r.IntN(4)]}
		if r.IntN(5) == 0 { // two of the household
			users = append(users, people[r.IntN(4)])
			if users[0] == users[1] {
				users = users[:1]
			}
		}
		for i, p := range users {
			name := p.mail
			switch r.IntN(7) {
			case 0:
				name = p.first + p.last
			case 1:
				name = p.phone
			case 2:
				if i == 0 && r.IntN(3) == 0 { // for work, beside a private one
					n++
					work := &account{n, p, p.work, host, label, m.password(p)}
					m.row(work, kept{title: label, address: "https://" + host + "/login", user: p.work, password: work.password})
				}
			}
			n++
			a := &account{n, p, name, host, label, m.password(p)}
			m.row(a, kept{title: a.title, address: "https://" + host + "/login", user: a.name, password: a.password})
			for range r.IntN(3) {
				m.spoil(a)
			}
		}
	}
	// Devices, and tenants of one service.
	for i := range 6 {
		for _, k := range []kept{
			{title: "Router", address: fmt.Sprintf("http://192.0.2.%d", i+1), user: "admin", password: people[0].habit},
			{
				title: fmt.Sprint("Team ", i), address: fmt.Sprintf("https://team%d.office.example", i), user: people[0].mail,
				password: people[0].habit,
			},
		} {
			n++
			m.row(&account{n: n}, k)
		}
	}
	r.Shuffle(len(m.rows), func(i, j int) {
		m.rows[i], m.rows[j] = m.rows[j], m.rows[i]
		m.truth[i], m.truth[j] = m.truth[j], m.truth[i]
		hi, hj := m.hard[i], m.hard[j]
		m.hard[i], m.hard[j] = hj, hi
	})
	return m
}

// TestHouseholds counts what is found on eight made-up lists.
func TestHouseholds(t *testing.T) {
	var easy, easyFound, hard, hardFound, proposed, right, sure, sureRight int
	for seed := range uint64(8) {
		m := household(rand.New(rand.NewPCG(seed, 5)))
		list := entries(t, m.rows...)
		for i := range list {
			list[i].ID = fmt.Sprintf("%04d", i)
		}
		got, err := Find(t.Context(), list, Options{})
		require.NoError(t, err)
		in := map[int]int{}
		for g, p := range got {
			var at []int
			for _, id := range p.IDs {
				i := slices.IndexFunc(list, func(e vault.Entry) bool { return e.ID == id })
				at = append(at, i)
				in[i] = g + 1
			}
			for x, i := range at {
				for _, j := range at[:x] {
					ok := m.truth[i] == m.truth[j]
					proposed++
					if ok {
						right++
					} else if testing.Verbose() {
						t.Logf("wrong: %+v and %+v (%s)", m.rows[i], m.rows[j], p.Sure)
					}
					if p.Sure == Sure {
						sure++
						if ok {
							sureRight++
						}
					}
				}
			}
		}
		for i := range m.rows {
			for j := range i {
				if m.truth[i] != m.truth[j] {
					continue
				}
				found := in[i] != 0 && in[i] == in[j]
				if m.hard[i] || m.hard[j] {
					hard++
					if found {
						hardFound++
					}
					continue
				}
				easy++
				if found {
					easyFound++
				} else if testing.Verbose() {
					t.Logf("missed: %+v and %+v", m.rows[i], m.rows[j])
				}
			}
		}
	}
	t.Logf("found %d of %d, of the harder ones %d of %d; right %d of %d, of the sure ones %d of %d",
		easyFound, easy, hardFound, hard, right, proposed, sureRight, sure)
	assert.GreaterOrEqual(t, easyFound*100, easy*95)
	assert.GreaterOrEqual(t, hardFound*100, hard*70)
	assert.GreaterOrEqual(t, right*1000, proposed*980)
	assert.GreaterOrEqual(t, sureRight*1000, sure*995)
}

// TestTidyIsFast: 10,000 rows take no more than 15 times what sorting them does, by five tries each.
func TestTidyIsFast(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes time")
	}
	var rows []kept
	for seed := uint64(50); len(rows) < 10_000; seed++ {
		rows = append(rows, household(rand.New(rand.NewPCG(seed, 9))).rows...)
	}
	list := entries(t, rows[:10_000]...)
	best := time.Hour
	for range 3 {
		began := time.Now()
		_, err := Find(t.Context(), list, Options{})
		require.NoError(t, err)
		best = min(best, time.Since(began))
	}
	t.Logf("10,000 rows: %v", best)
	assert.Less(t, best, 4*time.Second)
}
