package audit

import (
	"strings"

	"redlocket/core/secret"
	"redlocket/core/vault"
)

// Login is what is compared of one login.
type Login struct {
	ID       string
	Domain   string // registrable domain; empty for none
	Username string
	Password secret.Text
}

// Reused returns the ids of logins whose password, exactly, another login
// of another site or user name has too.
func Reused(list []Login) map[string]bool {
	first := map[secret.Text]string{}
	out := map[string]bool{}
	for _, l := range list {
		if l.Password.IsEmpty() {
			continue
		}
		if id, had := first[l.Password]; had {
			out[id], out[l.ID] = true, true
			continue
		}
		first[l.Password] = l.ID
	}
	return out
}

// Suspects returns the ids of logins that another login of their site may be the
// same as: by a user name that differs in case alone, that is missing, or that was
// starred out so that the other's fits it.
func Suspects(list []Login) map[string]bool {
	sites := map[string][]Login{}
	for _, l := range list {
		if l.Domain != "" {
			sites[l.Domain] = append(sites[l.Domain], l)
		}
	}
	out := map[string]bool{}
	for _, site := range sites {
		for i, a := range site {
			for _, b := range site[:i] {
				if alike(a.Username, b.Username) {
					out[a.ID], out[b.ID] = true, true
				}
			}
		}
	}
	return out
}

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

// Of reads what is compared out of an entry, whose addresses' first domain is given.
func Of(e vault.Entry, domain string) Login {
	return Login{
		ID:       e.ID,
		Domain:   domain,
		Username: e.Text(vault.FieldUsername),
		Password: e.Secret(vault.FieldPassword),
	}
}
