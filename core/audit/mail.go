package audit

import (
	"regexp"
	"slices"
	"strings"

	"redlocket/core/vault"
)

// FieldResetBy is the register in which the user says which mailbox resets a login: its address, or "none".
const FieldResetBy vault.Field = "reset-by"

// ResetByNone says that no mailbox resets a login.
const ResetByNone = "none"

var address = regexp.MustCompile(`[\p{L}\p{N}._%+-]+@[\p{L}\p{N}.-]+\.[\p{L}]{2,}`)

// mailParts takes an e-mail address apart; what follows a plus in its first part is the user's own (common practice,
// RFC 5233). ok is false for what is none.
func mailParts(s string) (local, domain string, ok bool) {
	s = strings.ToLower(strings.TrimSpace(s))
	local, domain, ok = strings.Cut(s, "@")
	if !ok || local == "" || !strings.Contains(domain, ".") || strings.ContainsAny(s, " \t,;") {
		return "", "", false
	}
	local, _, _ = strings.Cut(local, "+")
	return local, domain, local != ""
}

// mailKey is an e-mail address as mailboxes are told apart by; empty for what is none.
func mailKey(s string) string {
	local, domain, ok := mailParts(s)
	if !ok {
		return ""
	}
	return local + "@" + domain
}

// findMailboxes finds out which logins are mailboxes, and what each can reset: the accounts whose user name is its
// address, or whose recovery field or note names it, unless the user says otherwise. reset are the addresses
// that each login can be reset with.
func (s *Survey) findMailboxes(reset [][]string) {
	used := map[string]bool{} // addresses that anything goes by
	for _, list := range reset {
		for _, a := range list {
			used[a] = true
		}
	}
	boxes := map[string]bool{}
	for _, l := range s.logins {
		l.mailbox = s.mailboxOf(l, used)
		if l.mailbox != "" {
			boxes[l.mailbox] = true
			if l.worth.Kind != Money {
				l.worth.Kind = Mail
			}
		}
	}
	s.resets = map[string][]*login{}
	for i, l := range s.logins {
		for _, a := range reset[i] {
			if boxes[a] && l.mailbox != a {
				s.resets[a] = append(s.resets[a], l)
			}
		}
	}
	for _, l := range s.logins {
		l.worth.Resets = len(s.resets[l.mailbox])
	}
}

// mailboxOf returns the address whose mail is read with a login: the user name is an address of the site's own domain,
// or becomes one with it that other logins go by.
func (s *Survey) mailboxOf(l *login, used map[string]bool) string {
	if l.domain == "" || l.user == "" {
		return ""
	}
	local, domain, ok := mailParts(l.user)
	if !ok {
		if a := l.user + "@" + l.domain; used[a] {
			return a
		}
		return ""
	}
	if s.o.Site(domain) == s.o.Site(l.domain) || strings.HasSuffix(domain, "."+l.domain) {
		return local + "@" + domain
	}
	if l.worth.Kind == Mail && hostOfMail(l.host) { // a domain of one's own that a provider keeps
		return local + "@" + domain
	}
	return ""
}

// hostOfMail reports whether a host is one where mail is read.
func hostOfMail(host string) bool {
	first, _, _ := strings.Cut(host, ".")
	return slices.Contains([]string{"mail", "webmail", "imap", "mailbox", "inbox", "post"}, first)
}

// resetBy are the addresses that an account can be reset with.
func resetBy(e vault.Entry) (out []string) {
	if own := e.Text(FieldResetBy); own != "" {
		if a := mailKey(own); a != "" {
			return []string{a}
		}
		return nil
	}
	add := func(a string) {
		if a = mailKey(a); a != "" && !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	add(e.Text(vault.FieldUsername))
	for _, o := range e.CustomFields() {
		for _, a := range address.FindAllString(o.Value.Reveal(), -1) {
			add(a)
		}
	}
	for line := range strings.Lines(e.Text(vault.FieldNotes)) {
		at := address.FindStringIndex(line)
		if at == nil {
			continue
		}
		alone := strings.TrimSpace(line) == line[at[0]:at[1]]
		if alone || saysOf(line[:at[0]], "reset") {
			add(line[at[0]:at[1]])
		}
	}
	return out
}

// hasFactor reports whether a second factor stands before an account that no mailbox has: its one-time codes are kept
// with it, or a field of the user's own says so.
func hasFactor(e vault.Entry) bool {
	if e.Text(vault.FieldSetup) != "" {
		return true
	}
	for _, o := range e.CustomFields() {
		value := o.Value.Reveal()
		if saysOf(o.Label, "factor") && !saysNone(value) && !saysOf(o.Label, "mailed") && !saysOf(value, "mailed") {
			return true
		}
	}
	return false
}
