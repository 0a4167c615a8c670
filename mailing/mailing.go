// Package mailing hands mails to a mail server (RFC 5321, RFC 6409).
package mailing

import (
	"context"
	"fmt"
	"mime"
	"net"
	"strings"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Server is a mail server, and who one is to it.
type Server struct {
	Address        string // host:port
	User, Password string // no user: it takes mail without one
}

// Mail is a plain text to one address.
type Mail struct {
	From, To, Subject, Text string // From and To are addresses without names
	At                      time.Time
}

const sendTime = 20 * time.Second

// Send hands a mail to a server. A server elsewhere is spoken to over TLS only: at once on port 465, by STARTTLS on any
// other.
func Send(_ context.Context, s Server, m Mail) error {
	host, port, err := net.SplitHostPort(s.Address)
	if err != nil {
		return err
	}
	c, err := dial(s.Address, host, port)
	if err != nil {
		return err
	}
	defer func() { _ = c.Close() }() // what was handed over is
	c.CommandTimeout, c.SubmissionTimeout = sendTime, sendTime
	if s.User != "" {
		if err := c.Auth(sasl.NewPlainClient("", s.User, s.Password)); err != nil {
			return fmt.Errorf("failed to sign in: %w", err)
		}
	}
	text := strings.Join([]string{
		"From: Red Locket <" + m.From + ">", "To: <" + m.To + ">",
		"Subject: " + mime.QEncoding.Encode("utf-8", m.Subject), "Date: " + m.At.Format(time.RFC1123Z),
		"MIME-Version: 1.0", "Content-Type: text/plain; charset=utf-8", "Content-Transfer-Encoding: 8bit",
		"Auto-Submitted: auto-generated", "", strings.ReplaceAll(m.Text, "\n", "\r\n"), "",
	}, "\r\n")
	return c.SendMail(m.From, []string{m.To}, strings.NewReader(text))
}

func dial(address, host, port string) (*smtp.Client, error) {
	ip := net.ParseIP(host)
	here := host == "localhost" || strings.HasSuffix(host, ".localhost") || ip != nil && ip.IsLoopback()
	switch {
	case port == "465":
		return smtp.DialTLS(address, nil)
	case here:
		return smtp.Dial(address)
	}
	return smtp.DialStartTLS(address, nil)
}
