package cloud

import (
	"context"
	"embed"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"text/template"
	"time"

	"redlocket/core/wire"
)

// mails are written and handed over in the background, one after the other: how long that takes tells nobody whether
// an address is known.
type mails struct {
	log   *slog.Logger
	queue chan func(context.Context) error
	stop  context.CancelFunc
	ended sync.WaitGroup
}

const (
	waitingMails = 1000 // those that come above that are dropped: they can be asked for again
	mailTime     = time.Minute
)

func newMails(log *slog.Logger) *mails {
	ctx, stop := context.WithCancel(context.Background())
	m := &mails{log: log, queue: make(chan func(context.Context) error, waitingMails), stop: stop}
	m.ended.Go(func() { m.run(ctx) })
	return m
}

func (m *mails) run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case do := <-m.queue:
			m.try(ctx, do)
		}
	}
}

// try hands one over. What a mail server says may name an address, and isn't logged.
func (m *mails) try(ctx context.Context, do func(context.Context) error) {
	ctx, cancel := context.WithTimeout(ctx, mailTime)
	defer cancel()
	if err := do(ctx); err != nil {
		m.log.Error("a mail could not be handed over", "kind", fmt.Sprintf("%T", err))
	}
}

func (m *mails) add(do func(context.Context) error) {
	select {
	case m.queue <- do:
	default:
		m.log.Error("too many mails wait: one was dropped")
	}
}

func (m *mails) close() {
	m.stop()
	m.ended.Wait()
}

//go:embed mails/*.txt
var mailFiles embed.FS

var mailTexts = template.Must(template.ParseFS(mailFiles, "mails/*.txt"))

// mailText is what stands in a mail.
type mailText struct {
	Code, At string
	First    string // name; empty where none may stand there
	Days     int
}

const regards = "\nThis mail was sent by the cloud of Red Locket by itself.\n"

// send hands over a mail by its name. Its first line is the subject.
func (s *Server) send(ctx context.Context, to, name string, with mailText) error {
	var b strings.Builder
	if err := mailTexts.ExecuteTemplate(&b, name+".txt", with); err != nil {
		return err
	}
	subject, text, _ := strings.Cut(b.String(), "\n")
	return s.Post.Send(ctx, to, subject, text+regards)
}

func grouped(code string) string { return code[:len(code)/2] + " " + code[len(code)/2:] }

// tellLate mails the owner of an account that new credentials wait.
func (s *Server) tellLate(email string, due time.Time) {
	if s.Post == nil {
		return
	}
	s.mails.add(func(ctx context.Context) error {
		return s.send(ctx, email, "late", mailText{At: due.UTC().Format("2 January 2006 at 15:04 UTC")})
	})
}

// tellReplaced mails the owner of an account that its keys were replaced.
func (s *Server) tellReplaced(email string, at time.Time) {
	if s.Post == nil {
		return
	}
	s.mails.add(func(ctx context.Context) error {
		return s.send(ctx, email, "replaced", mailText{
			At: at.UTC().Format("2 January 2006 at 15:04 UTC"), Days: wire.BringBackDays,
		})
	})
}
