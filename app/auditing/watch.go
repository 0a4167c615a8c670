package auditing

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"redlocket/app/outside"
	"redlocket/app/records"
	"redlocket/core/audit"
	"redlocket/core/leaks"
	"redlocket/core/vault"
)

// LeakService is a service that knows what leaked. It learns no more than package leaks says. Errors are
// [ErrServiceAway] and [ErrServiceAnswer].
type LeakService interface {
	Key(ctx context.Context, service string) ([]byte, error)
	Range(ctx context.Context, service, prefix string) (io.Reader, error)
	LookUp(ctx context.Context, service string, req leaks.Request) (leaks.Answer, error)
}

// Post hands mails to a server. The error is [ErrMailServer].
type Post interface {
	Send(ctx context.Context, s MailServer, m Mail) error
}

// MailServer is where the user's mail is handed over. A user and a password are shown to it over TLS only.
type MailServer struct {
	Address  string `json:"address"` // host:port
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty"`
}

// Mail is a mail to the user.
type Mail struct {
	To, Subject, Text string
	At                time.Time
}

// Errors of services.
var (
	ErrNoService     = errors.New("no service can be asked from here")
	ErrServiceAway   = errors.New("the leak service can’t be reached")
	ErrServiceAnswer = errors.New("the leak service doesn’t answer as one does")
	ErrServiceKey    = errors.New("the leak service has another key than when it was chosen")
	ErrMailServer    = errors.New("the mail server didn’t take the mail")
)

// Watch is what the user wants looked up at a service. All is off until it is switched on.
type Watch struct {
	Service   string     `json:"service"` // its address
	Passwords bool       `json:"passwords"`
	Names     bool       `json:"names"` // e-mail addresses and user names
	Cards     bool       `json:"cards"`
	Mail      bool       `json:"mail"` // that something turned up, never what
	MailTo    string     `json:"mail_to,omitempty"`
	Server    MailServer `json:"mail_server"`
}

// On reports whether anything is looked up.
func (w Watch) On() bool { return w.Service != "" && (w.Passwords || w.Names || w.Cards) }

// TurnedUp is a thing of the user's that is in a leak.
type TurnedUp struct {
	ID    string     `json:"id"`
	Kind  leaks.Kind `json:"kind"`
	Text  string     `json:"text"` // as the service names it
	Leak  leaks.Leak `json:"leak"`
	Found int64      `json:"found"` // milliseconds since 1970
	Seen  bool       `json:"seen"`  // the user said so
}

// Watching is what is known of the watch.
type Watching struct {
	Watch
	Running bool
	Last    int64 // when all that was due was asked; milliseconds since 1970
	Fault   error // why the last try didn't come to its end; nil if it did
	Turned  []TurnedUp
	Leaked  int // passwords that the service knows
}

// keptWatch is the watch as it is kept on this device, sealed.
type keptWatch struct {
	Watch
	Key    []byte           `json:"key"`    // the service's, when it was chosen
	Asked  map[string]int64 `json:"asked"`  // when a thing was asked for last, by its name
	Leaked map[string]int64 `json:"leaked"` // passwords that are leaked, by the hex of their hash: when that was found
	Turned []TurnedUp       `json:"turned"`
	Last   int64            `json:"last"`
	Tried  int64            `json:"tried"`
	Unsent bool             `json:"unsent,omitempty"` // a mail that no server has taken yet
}

// watching is the watch as it is held while the vault is open.
type watching struct {
	keptWatch
	read    bool
	turn    int // counts the changes of what is kept
	running bool
	fault   error
}

const (
	localWatch  = "leak-watch"
	askEvery    = 24 * time.Hour
	askAgain    = time.Hour // where it failed
	mostRanges  = 1000      // prefixes asked for in one run: the rest has its turn in the next
	rangesAtOne = 4         // at a time
)

// openWatch reads what is kept, once.
func (a *Auditing) openWatch(ctx context.Context) error {
	read := false
	if err := a.gate.Read(func(k *known) error { read = k.watch.read; return nil }); err != nil || read {
		return err
	}
	var kept keptWatch
	if err := a.cfg.Set.Local.GetJSON(ctx, localWatch, &kept); err != nil {
		return err
	}
	return a.gate.Write(func(k *known) error {
		if !k.watch.read {
			k.watch.keptWatch, k.watch.read = kept, true
		}
		return nil
	})
}

// keepWatch changes what is kept, and shows it. Where somebody else changed it meanwhile, it is changed once more.
func (a *Auditing) keepWatch(ctx context.Context, change func(w *keptWatch)) error {
	if err := a.openWatch(ctx); err != nil {
		return err
	}
	for done := false; !done; {
		var next keptWatch
		var turn int
		if err := a.gate.Read(func(k *known) error {
			next, turn = k.watch.clone(), k.watch.turn
			return nil
		}); err != nil {
			return err
		}
		change(&next)
		if err := a.cfg.Set.Local.SetJSON(ctx, localWatch, next); err != nil {
			return err
		}
		if err := a.gate.Write(func(k *known) error {
			if done = k.watch.turn == turn; done {
				k.watch.keptWatch = next
				k.watch.turn++
				k.survey, k.at = nil, -1
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

func (w keptWatch) clone() keptWatch {
	w.Asked, w.Leaked, w.Turned = maps.Clone(w.Asked), maps.Clone(w.Leaked), slices.Clone(w.Turned)
	if w.Asked == nil {
		w.Asked = map[string]int64{}
	}
	if w.Leaked == nil {
		w.Leaked = map[string]int64{}
	}
	return w
}

// Watching returns what is known of the watch; what turned up last comes first.
func (a *Auditing) Watching(ctx context.Context) (w Watching, err error) {
	if err := a.openWatch(ctx); err != nil {
		return w, err
	}
	err = a.gate.Read(func(k *known) error {
		in := k.watch
		w = Watching{
			Watch: in.Watch, Running: in.running, Last: in.Last, Fault: in.fault, Turned: slices.Clone(in.Turned),
			Leaked: len(in.Leaked),
		}
		return nil
	})
	slices.SortStableFunc(w.Turned, func(x, y TurnedUp) int {
		return cmp.Or(cmp.Compare(y.Found, x.Found), strings.Compare(y.Leak.Day, x.Leak.Day))
	})
	return w, err
}

// SetWatch changes what is looked up. The service's key is asked for, and kept. What turned up stays.
func (a *Auditing) SetWatch(ctx context.Context, w Watch) error {
	if a.cfg.Service == nil {
		return records.BadInput("service", ErrNoService)
	}
	w.Service, w.MailTo = strings.TrimSpace(w.Service), strings.TrimSpace(w.MailTo)
	w.Server.Address = strings.TrimSpace(w.Server.Address)
	if !w.On() {
		return a.keepWatch(ctx, func(k *keptWatch) { k.Watch = w })
	}
	if _, ok := leaks.NewThing(leaks.KindMail, w.MailTo); w.Mail && !ok {
		return records.BadInput("mail-to", errors.New("this is no e-mail address"))
	}
	if w.Mail && w.Server.Address == "" {
		return records.BadInput("mail-server", errors.New("write your mail server, like smtp.cormorant.example:465"))
	}
	key, err := a.cfg.Service.Key(ctx, w.Service)
	if err == nil {
		_, _, err = leaks.Ask(key, nil, rand.Reader)
	}
	if err != nil {
		return records.BadInput("service", said(err))
	}
	return a.keepWatch(ctx, func(k *keptWatch) {
		if k.Service != w.Service || !slices.Equal(k.Key, key) {
			k.Asked, k.Leaked = nil, nil // another service may know others
		}
		k.Watch, k.Key, k.Tried = w, key, 0
	})
}

// Seen notes that the user has seen something that turned up.
func (a *Auditing) Seen(ctx context.Context, id string) error {
	return a.keepWatch(ctx, func(w *keptWatch) {
		for i := range w.Turned {
			w.Turned[i].Seen = w.Turned[i].Seen || w.Turned[i].ID == id
		}
	})
}

// WatchIfDue asks the service for what wasn't asked for within a day, and for what is new.
func (a *Auditing) WatchIfDue(ctx context.Context) error {
	w, err := a.Watching(ctx)
	if err != nil || !w.On() {
		return err
	}
	tried := int64(0)
	if err := a.gate.Read(func(k *known) error { tried = k.watch.Tried; return nil }); err != nil {
		return err
	}
	if w.Fault != nil && a.now()-tried < askAgain.Milliseconds() {
		return nil
	}
	return a.ask(ctx, false)
}

// LookNow asks the service for everything, in the background.
func (a *Auditing) LookNow(ctx context.Context) error {
	if err := a.openWatch(ctx); err != nil {
		return err
	}
	return a.gate.Write(func(*known) error {
		a.work.Go(func() { _ = a.ask(a.ctx, true) }) // what went wrong is shown with the watch
		return nil
	})
}

func (a *Auditing) now() int64 { return a.cfg.Now().UnixMilli() }

// due is what a service is to be asked for.
type due struct {
	passwords []leaks.Hash
	things    []leaks.Thing
}

func (d due) empty() bool { return len(d.passwords)+len(d.things) == 0 }

func passwordName(h leaks.Hash) string { return "password " + h.String() }
func thingName(t leaks.Thing) string   { return string(t.Kind) + " " + t.Text }

// due returns what wasn't asked for since a moment, the longest ago first.
func (a *Auditing) due(w keptWatch, since int64) (d due, err error) {
	entries, err := a.entries()
	if err != nil {
		return d, err
	}
	hashes, things := map[leaks.Hash]bool{}, map[leaks.Thing]bool{}
	add := func(kind leaks.Kind, text string) {
		if t, ok := leaks.NewThing(kind, text); ok {
			things[t] = true
		}
	}
	for _, e := range entries {
		it := vault.View(e)
		if p := e.SignsInWith(); w.Passwords && it.Type.IsAccount() && !p.IsEmpty() {
			hashes[leaks.HashOf(p)] = true
		}
		if w.Names {
			add(leaks.KindMail, it.Username)
			add(leaks.KindUser, it.Username)
			add(leaks.KindMail, e.Text(vault.FieldEmail))
		}
		if w.Cards && it.Type == vault.TypeCard {
			add(leaks.KindCard, e.Secret(vault.FieldNumber).Reveal())
		}
	}
	for h := range hashes {
		if w.Asked[passwordName(h)] <= since {
			d.passwords = append(d.passwords, h)
		}
	}
	slices.SortFunc(d.passwords, func(x, y leaks.Hash) int {
		before := cmp.Compare(w.Asked[passwordName(x)], w.Asked[passwordName(y)])
		return cmp.Or(before, strings.Compare(x.String(), y.String()))
	})
	d.passwords = d.passwords[:min(len(d.passwords), mostRanges)]
	for t := range things {
		if w.Asked[thingName(t)] <= since {
			d.things = append(d.things, t)
		}
	}
	return d, nil
}

// ask asks for what is due, or for everything, one run at a time.
func (a *Auditing) ask(ctx context.Context, all bool) error {
	if err := a.openWatch(ctx); err != nil {
		return err
	}
	var w keptWatch
	mine := false
	err := a.gate.Write(func(k *known) error {
		if mine = !k.watch.running; mine {
			k.watch.running = true
			w = k.watch.clone()
		}
		return nil
	})
	if err != nil || !mine {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	defer context.AfterFunc(a.ctx, stop)()
	fault, news := a.askFor(ctx, w, all)
	_ = a.gate.Write(func(k *known) error { // once locked, nobody asks any more
		k.watch.running, k.watch.fault = false, fault
		return nil
	})
	if a.cfg.Changed != nil && (fault != nil || all || news) {
		a.cfg.Changed()
	}
	return fault
}

// found is what a service said.
type found struct {
	leaked map[leaks.Hash]bool
	things map[leaks.Thing][]leaks.Leak
}

func (a *Auditing) askFor(ctx context.Context, w keptWatch, all bool) (fault error, news bool) {
	since := a.now() - askEvery.Milliseconds()
	if all {
		since = a.now()
	}
	d, err := a.due(w, since)
	ask := !d.empty() || all
	if err != nil || !ask && !(w.Mail && w.Unsent) {
		return err, false
	}
	var got found
	if ask {
		got, fault = a.askService(ctx, w, d)
	}
	at := a.now()
	err = a.keepWatch(ctx, func(k *keptWatch) {
		k.Tried = at
		if k.Service != w.Service { // another one was chosen meanwhile
			return
		}
		news = k.take(got, at)
		k.Unsent = k.Mail && (k.Unsent || news)
		if fault == nil {
			k.Last = at
		}
	})
	if w.Mail && (news || w.Unsent) && err == nil {
		if err = a.sendMail(ctx, w, at); err == nil {
			err = a.keepWatch(ctx, func(k *keptWatch) { k.Unsent = false })
		}
	}
	return said(errors.Join(fault, err)), news
}

// said is what of an error a person is told: the first of those that are ours.
func said(err error) error {
	for _, ours := range []error{
		ErrServiceKey, ErrServiceAnswer, ErrServiceAway, ErrMailServer, leaks.ErrKey, leaks.ErrAnswer,
		outside.ErrAddress,
	} {
		if errors.Is(err, ours) {
			return ours
		}
	}
	return err
}

// askService asks for what is due. What was answered before something failed is returned too.
func (a *Auditing) askService(ctx context.Context, w keptWatch, d due) (f found, err error) {
	f.leaked, err = a.askRanges(ctx, w.Service, d.passwords)
	if err != nil || len(d.things) == 0 {
		return f, err
	}
	req, pending, err := leaks.Ask(w.Key, d.things, rand.Reader)
	if err != nil {
		return f, err
	}
	answer, err := a.cfg.Service.LookUp(ctx, w.Service, req)
	if err != nil {
		return f, err
	}
	known, err := pending.Open(answer)
	if err != nil {
		if key, err2 := a.cfg.Service.Key(ctx, w.Service); err2 == nil && !slices.Equal(key, w.Key) {
			return f, ErrServiceKey
		}
		return f, errors.Join(ErrServiceAnswer, err)
	}
	f.things = map[leaks.Thing][]leaks.Leak{}
	for _, t := range d.things {
		f.things[t] = known[t]
	}
	return f, nil
}

// askRanges asks for the ranges of passwords, a few at a time.
func (a *Auditing) askRanges(ctx context.Context, service string, list []leaks.Hash) (map[leaks.Hash]bool, error) {
	var mu sync.Mutex // guards leaked and failed
	leaked, failed := map[leaks.Hash]bool{}, error(nil)
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	next := make(chan leaks.Hash)
	var work sync.WaitGroup
	for range rangesAtOne {
		work.Go(func() {
			for h := range next {
				seen, err := int64(0), ctx.Err()
				if err == nil {
					var r io.Reader
					if r, err = a.cfg.Service.Range(ctx, service, h.Prefix()); err == nil {
						if seen, err = leaks.InRange(r, h); err != nil {
							err = errors.Join(ErrServiceAnswer, err)
						}
					}
				}
				mu.Lock()
				if err == nil {
					leaked[h] = seen > 0
				} else if failed == nil {
					failed = err
					stop()
				}
				mu.Unlock()
			}
		})
	}
	for _, h := range list {
		next <- h
	}
	close(next)
	work.Wait()
	return leaked, failed
}

// take notes what a service said, and reports whether anything of it is new.
func (w *keptWatch) take(f found, at int64) (news bool) {
	for h, leaked := range f.leaked {
		w.Asked[passwordName(h)] = at
		if _, known := w.Leaked[h.String()]; leaked && !known {
			w.Leaked[h.String()], news = at, true
		}
	}
	for t, list := range f.things {
		w.Asked[thingName(t)] = at
		for _, l := range list {
			id := turnedID(t, l)
			if !slices.ContainsFunc(w.Turned, func(u TurnedUp) bool { return u.ID == id }) {
				up := TurnedUp{ID: id, Kind: t.Kind, Text: t.Text, Leak: l, Found: at}
				w.Turned, news = append(w.Turned, up), true
			}
		}
	}
	return news
}

func turnedID(t leaks.Thing, l leaks.Leak) string {
	sum := sha256.Sum256([]byte(strings.Join([]string{string(t.Kind), t.Text, l.Name, l.Site, l.Day}, "\x00")))
	return hex.EncodeToString(sum[:10])
}

// sendMail tells the user that something turned up, and not what.
func (a *Auditing) sendMail(ctx context.Context, w keptWatch, at int64) error {
	if a.cfg.Post == nil {
		return ErrMailServer
	}
	return a.cfg.Post.Send(ctx, w.Server, Mail{
		To: w.MailTo, Subject: "Something turned up in a leak", At: time.UnixMilli(at),
		Text: "Something that you keep in Red Locket turned up in a leak.\n" +
			"What it is isn’t said in a mail: open Red Locket and look at Weak spots.",
	})
}

// exposures are the leaks of accounts that are known, for package audit.
func (w keptWatch) exposures() (list []audit.Exposure) {
	for _, t := range w.Turned {
		day, err := time.Parse(time.DateOnly, t.Leak.Day)
		if err != nil || t.Leak.Site == "" || t.Kind == leaks.KindCard {
			continue
		}
		list = append(list, audit.Exposure{Domain: t.Leak.Site, User: t.Text, At: day.UnixMilli()})
	}
	return list
}

// Touched says which logins a leak was of, and whether all of them have had a new password since.
func (a *Auditing) Touched(ctx context.Context, t TurnedUp) (ids []string, since bool, err error) {
	s, err := a.Survey(ctx)
	if err != nil {
		return nil, false, err
	}
	day, err := time.Parse(time.DateOnly, t.Leak.Day)
	if err != nil || t.Kind == leaks.KindCard {
		return nil, false, nil
	}
	ids, since = s.Exposed(audit.Exposure{Domain: t.Leak.Site, User: t.Text, At: day.UnixMilli()})
	return ids, since, nil
}
