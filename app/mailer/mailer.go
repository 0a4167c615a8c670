// Package mailer hands a mail to the user's mail server (RFC 5321, RFC 6409).
package mailer

import (
	"context"
	"fmt"
	"mime"
	"net"
	"strings"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"redlocket/app/auditing"
	"redlocket/app/outside"
)

// Mailer hands mails to servers. Its zero value is ready.
type Mailer struct{}

const sendTime = 20 * time.Second

// Send hands a mail to a server. A server elsewhere is spoken to over TLS only: at once on port 465, by STARTTLS on any
// other.
func (Mailer) Send(_ context.Context, s auditing.MailServer, m auditing.Mail) (err error) {
	host, port, err := net.SplitHostPort(s.Address)
	if err != nil {
		return fmt.Errorf("%w: %w", auditing.ErrMailServer, err)
	}
	var c *smtp.Client
	switch {
	case port == "465":
		c, err = smtp.DialTLS(s.Address, nil)
	case outside.Loopback(host):
		c, err = smtp.Dial(s.Address)
	default:
		c, err = smtp.DialStartTLS(s.Address, nil)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", auditing.ErrMailServer, err)
	}
	defer func() { _ = c.Close() }() // what was handed over is
	c.CommandTimeout, c.SubmissionTimeout = sendTime, sendTime
	if s.User != "" {
		if err := c.Auth(sasl.NewPlainClient("", s.User, s.Password)); err != nil {
			return fmt.Errorf("%w: %w", auditing.ErrMailServer, err)
		}
	}
	text := strings.Join([]string{
		"From: Red Locket <" + m.To + ">", "To: <" + m.To + ">",
		"Subject: " + mime.QEncoding.Encode("utf-8", m.Subject), "Date: " + m.At.Format(time.RFC1123Z),
		"MIME-Version: 1.0", "Content-Type: text/plain; charset=utf-8", "Content-Transfer-Encoding: 8bit",
		"Auto-Submitted: auto-generated", "", strings.ReplaceAll(m.Text, "\n", "\r\n"), "",
	}, "\r\n")
	if err := c.SendMail(m.To, []string{m.To}, strings.NewReader(text)); err != nil {
		return fmt.Errorf("%w: %w", auditing.ErrMailServer, err)
	}
	return nil
}
