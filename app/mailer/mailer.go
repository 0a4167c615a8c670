// Package mailer hands the program's mails to the user's own mail server.
package mailer

import (
	"context"
	"fmt"

	"redlocket/app/auditing"
	"redlocket/mailing"
)

// Mailer hands mails to servers. Its zero value is ready.
type Mailer struct{}

// Send hands a mail to a server, from the user to themselves.
func (Mailer) Send(ctx context.Context, s auditing.MailServer, m auditing.Mail) error {
	err := mailing.Send(ctx, mailing.Server(s), mailing.Mail{
		From: m.To, To: m.To, Subject: m.Subject, Text: m.Text, At: m.At,
	})
	if err != nil {
		return fmt.Errorf("%w: %w", auditing.ErrMailServer, err)
	}
	return nil
}
