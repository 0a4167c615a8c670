package practice

import (
	"context"
	"errors"
	"io"
	"net/http"
	"net/mail"
	"regexp"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// postOffice is a stand-in for a mail server: it takes every mail (RFC 5321) and shows it on a page. Nothing goes on.
type postOffice struct {
	mu    sync.Mutex
	mails []Mail // the newest first
}

// Mail is a mail that the post office took.
type Mail struct {
	From, To, Subject, Text string
	At                      time.Time
}

const mostMails = 100

// Post returns the server that takes the town's mail. It serves until it is closed.
func (t *Town) Post() *smtp.Server {
	s := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &delivery{to: t.post}, nil }))
	s.Domain = "post.localhost"
	s.MaxMessageBytes = 1 << 20
	s.MaxRecipients = 10
	s.ReadTimeout, s.WriteTimeout = 10*time.Second, 10*time.Second
	s.ErrorLog = quietLog{}
	return s
}

type quietLog struct{}

func (quietLog) Printf(string, ...any) {}
func (quietLog) Println(...any)        {}

// Mails returns what was taken, the newest first.
func (t *Town) Mails() []Mail {
	t.post.mu.Lock()
	defer t.post.mu.Unlock()
	return append([]Mail(nil), t.post.mails...)
}

// delivery is one connection's mail.
type delivery struct {
	to       *postOffice
	from, at string
}

func (d *delivery) Mail(from string, _ *smtp.MailOptions) error { d.from = from; return nil }
func (d *delivery) Rcpt(to string, _ *smtp.RcptOptions) error   { d.at = to; return nil }
func (d *delivery) Reset()                                      { d.from, d.at = "", "" }
func (d *delivery) Logout() error                               { return nil }

// Data takes the mail itself.
func (d *delivery) Data(r io.Reader) error {
	m, err := mail.ReadMessage(r)
	if err != nil {
		return &smtp.SMTPError{Code: 554, EnhancedCode: smtp.EnhancedCode{5, 6, 0}, Message: "this is no mail"}
	}
	text, err := io.ReadAll(m.Body)
	if err != nil {
		return err
	}
	got := Mail{From: d.from, To: d.at, Subject: m.Header.Get("Subject"), Text: string(text), At: time.Now()}
	d.to.mu.Lock()
	defer d.to.mu.Unlock()
	d.to.mails = append([]Mail{got}, d.to.mails...)
	d.to.mails = d.to.mails[:min(len(d.to.mails), mostMails)]
	return nil
}

// postView is the page of the post office.
type postView struct {
	page
	Mails []Mail
}

func (t *Town) postOffice(w http.ResponseWriter, _ *http.Request, p page) {
	t.draw(w, http.StatusOK, "post-office", postView{p, t.Mails()})
}

// errNoMail is returned when no mail with a code came in time.
var errNoMail = errors.New("the mail with the code didn't come")

// eightDigits is a code as it stands in a mail, in two groups on a line of its own.
var eightDigits = regexp.MustCompile(`(?m)^ +(\d{4} \d{4})\r?$`)

// CodeFor waits a moment for a mail with a code of eight digits to an address, and returns the last one that came.
func (t *Town) CodeFor(ctx context.Context, email string) (string, error) {
	const wait, look = 10 * time.Second, 20 * time.Millisecond
	for end := time.Now().Add(wait); time.Now().Before(end); {
		for _, m := range t.Mails() {
			if code := eightDigits.FindStringSubmatch(m.Text); m.To == email && code != nil {
				return code[1], nil
			}
		}
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-time.After(look):
		}
	}
	return "", errNoMail
}
