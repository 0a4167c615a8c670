package main

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"redlocket/app"
	"redlocket/app/bridge"
	"redlocket/app/cloudclient"
	"redlocket/app/folder"
	"redlocket/app/leakclient"
	"redlocket/app/loopback"
	"redlocket/app/mailer"
	"redlocket/app/siteclient"
	"redlocket/app/store"
	"redlocket/app/usersession"
	"redlocket/cloud"
	"redlocket/core/wire"
	"redlocket/extension"
	"redlocket/mailing"
	"redlocket/web"
)

// server is one that listens.
type server struct {
	name string
	http *http.Server
	stop func() // ends streams, before the server shuts down
	done chan error
	once sync.Once

	mu    sync.Mutex
	fresh map[net.Conn]struct{} // connections that haven't asked anything yet; nil once the server ends
}

func local(port int) string { return fmt.Sprintf("127.0.0.1:%d", port) }

// serve listens and answers in the background.
func serve(name, addr string, h http.Handler, stop func()) (*server, error) {
	l, err := listen(name, addr)
	if err != nil {
		return nil, err
	}
	return serveOn(name, l, h, stop), nil
}

func listen(name, addr string) (net.Listener, error) {
	l, err := net.Listen("tcp", addr)
	return l, listening(name, addr, err)
}

// listenOwn listens for programs of this computer's own user.
func listenOwn(name string, port int) (net.Listener, error) {
	l, err := loopback.Listen(port)
	return l, listening(name, local(port), err)
}

// listening says why nothing can listen, if it can't.
func listening(name, addr string, err error) error {
	if errors.Is(err, syscall.EADDRINUSE) {
		return fmt.Errorf(
			"%s can't start: something else uses %s already (another Red Locket?); choose another port",
			name,
			addr,
		)
	}
	if err != nil {
		return fmt.Errorf("%s can't start: %w", name, err)
	}
	return nil
}

func serveOn(name string, l net.Listener, h http.Handler, stop func()) *server {
	s := &server{name: name, stop: stop, done: make(chan error, 1), fresh: map[net.Conn]struct{}{}}
	s.http = &http.Server{
		Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 2 * time.Minute, WriteTimeout: 2 * time.Minute,
		IdleTimeout:    2 * time.Minute,
		MaxHeaderBytes: 64 << 10, ErrorLog: log.New(io.Discard, "", 0), ConnState: s.note,
	}
	go func() { s.done <- s.http.Serve(l) }()
	return s
}

// note keeps which connections haven't asked anything yet: net/http would wait for what they may still ask.
func (s *server) note(c net.Conn, state http.ConnState) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case state != http.StateNew:
		delete(s.fresh, c)
	case s.fresh == nil:
		_ = c.Close()
	default:
		s.fresh[c] = struct{}{}
	}
}

// endFresh closes the connections that haven't asked anything.
func (s *server) endFresh() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.fresh {
		_ = c.Close()
	}
	s.fresh = nil
}

// close ends the server: requests under way get a moment to finish.
func (s *server) close() {
	s.once.Do(func() {
		if s.stop != nil {
			s.stop()
		}
		s.endFresh()
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		if s.http.Shutdown(ctx) != nil {
			_ = s.http.Close()
		}
	})
}

// waitFor runs servers until ctx ends or one of them fails, then ends all.
func waitFor(ctx context.Context, list ...*server) error {
	failed := make(chan error, len(list))
	for _, s := range list {
		go func() {
			if err := <-s.done; err != nil && !errors.Is(err, http.ErrServerClosed) {
				failed <- fmt.Errorf("%s stopped: %w", s.name, err)
			}
		}()
	}
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	for _, s := range list {
		s.close()
	}
	return err
}

type deviceOptions struct {
	dir   string
	port  int
	cloud string
	host  string // its own name; redlocket.localhost if empty

	leakService, mailServer string // what is offered as their addresses
}

// deviceApp is a device with its pages.
type deviceApp struct {
	device *app.Device
	pages  *web.Server
	url    string
}

func newDevice(o deviceOptions) (*deviceApp, error) {
	stores, err := store.In(o.dir)
	if err != nil {
		return nil, err
	}
	d := app.New(
		app.Ports{
			Stores:       stores,
			Seeking:      stores.Seeking(),
			Dial:         cloudclient.Dial,
			Now:          time.Now,
			Rand:         rand.Reader,
			Platform:     platform(),
			Boot:         boot(),
			Sites:        siteclient.New(),
			Folders:      folder.Folders{},
			Leaks:        folder.LeakFiles{Path: filepath.Join(o.dir, "leaked-passwords")},
			Leaked:       leakclient.Client{},
			Post:         mailer.Mailer{},
			WatchSession: usersession.Watch,
		},
	)
	if o.host == "" {
		o.host = "redlocket.localhost"
	}
	own := fmt.Sprintf("http://%s:%d", o.host, o.port)
	pages, err := web.New(d, web.Config{
		Hosts: []string{o.host}, Origin: own, Cloud: o.cloud, Log: quiet(), Browsers: bridge.New(d, own),
		Extension:   extension.Pack,
		LeakService: o.leakService, MailServer: o.mailServer,
	})
	if err != nil {
		return nil, err
	}
	return &deviceApp{d, pages, own}, nil
}

func (d *deviceApp) serve(ctx context.Context, name string, l net.Listener) *server {
	go d.device.Run(ctx)
	return serveOn(name, l, d.pages, func() {
		d.pages.Close()
		d.device.LockAll() // a browser that waits for that hears of it
	})
}

func runDevice(ctx context.Context, o deviceOptions, open bool) error {
	release, err := holdFolder(o.dir)
	if errors.Is(err, errInUse) {
		if at, ok := runningAt(ctx, o.dir); ok { // started a second time: its page is what was wanted
			fmt.Printf("Red Locket is running already, at %s\n", at.URL)
			if open {
				openBrowser(at.URL)
			}
			return nil
		}
	}
	if err != nil {
		return err
	}
	defer release()
	l, err := listenOwn("Red Locket", o.port)
	if err != nil {
		return err
	}
	d, err := newDevice(o)
	if err != nil {
		return errors.Join(err, l.Close())
	}
	s := d.serve(ctx, "Red Locket", l)
	done, err := noteRunning(o.dir, d.url)
	if err != nil {
		s.close()
		return errors.Join(err, d.device.Close())
	}
	defer done()
	fmt.Printf("Red Locket is at %s\nYour data is in %s\nCtrl-C ends it, and locks every vault.\n", d.url, o.dir)
	if open {
		openBrowser(d.url)
	}
	return errors.Join(waitFor(ctx, s), d.device.Close())
}

type cloudOptions struct {
	file, listen, cert, key string
	addresses               []string
	accounts                string // open, invitation or closed
	mail                    mailing.Server
	mailFrom                string
	mailPassword            string // the file that has it
	behindProxy             bool
	proxies                 []string
	metrics                 string // an address of its own; empty for none
	quota                   cloud.Quota
}

// readProxies reads addresses and networks.
func readProxies(list []string) (out []netip.Prefix, err error) {
	for _, p := range list {
		prefix, err := netip.ParsePrefix(p)
		if err != nil {
			a, err := netip.ParseAddr(p)
			if err != nil {
				return nil, fmt.Errorf("--trusted-proxy wants an address or a network, like 10.0.0.0/8, not %q", p)
			}
			prefix = netip.PrefixFrom(a, a.BitLen())
		}
		out = append(out, prefix)
	}
	return out, nil
}

// certificate is one that is read again when its files change.
type certificate struct {
	cert, key string

	mu   sync.Mutex // guards what follows
	pair *tls.Certificate
	of   time.Time // when the files were last written
}

// get returns the present one. Files that can't be read, because they are being written, leave the one before.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	at := lastWritten(c.cert, c.key)
	if c.pair != nil && at.Equal(c.of) {
		return c.pair, nil
	}
	pair, err := tls.LoadX509KeyPair(c.cert, c.key)
	if err != nil && c.pair == nil {
		return nil, fmt.Errorf("failed to read the certificate: %w", err)
	}
	if err == nil {
		c.pair, c.of = &pair, at
	}
	return c.pair, nil
}

func lastWritten(files ...string) (last time.Time) {
	for _, f := range files {
		if i, err := os.Stat(f); err == nil && i.ModTime().After(last) {
			last = i.ModTime()
		}
	}
	return last
}

// admissions are the values of --accounts.
var admissions = map[string]cloud.Admission{
	"open": cloud.Open, "invitation": cloud.ByInvitation, "closed": cloud.Closed,
}

// cloudPost hands over the cloud's mails.
type cloudPost struct {
	server mailing.Server
	from   string
}

func (p *cloudPost) Send(ctx context.Context, to, subject, text string) error {
	return mailing.Send(ctx, p.server, mailing.Mail{From: p.from, To: to, Subject: subject, Text: text, At: time.Now()})
}

// post is what takes the cloud's mails; nil without a mail server.
func (o cloudOptions) post() (*cloudPost, error) {
	if o.mail.Address == "" {
		return nil, nil //nolint:nilnil // a cloud may have none
	}
	if _, _, err := net.SplitHostPort(o.mail.Address); err != nil {
		return nil, fmt.Errorf("--mail-server wants a host and a port, like smtp.cloud.example:465: %w", err)
	}
	if _, err := cloud.NormalEmail(o.mailFrom); err != nil {
		return nil, errors.New("--mail-server needs --mail-from, an e-mail address")
	}
	if o.mailPassword != "" {
		b, err := os.ReadFile(o.mailPassword)
		if err != nil {
			return nil, fmt.Errorf("failed to read the mail server's password: %w", err)
		}
		o.mail.Password = strings.TrimRight(string(b), "\r\n")
	}
	return &cloudPost{o.mail, o.mailFrom}, nil
}

func runCloud(ctx context.Context, o cloudOptions) error {
	host, _, err := net.SplitHostPort(o.listen)
	if err != nil {
		return fmt.Errorf("--listen wants an address and a port, like 127.0.0.1:7300: %w", err)
	}
	ip := net.ParseIP(host)
	admission, ok := admissions[o.accounts]
	if !ok {
		return errors.New("--accounts is open, invitation or closed")
	}
	post, err := o.post()
	if err != nil {
		return err
	}
	if o.cert == "" && !o.behindProxy && host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return errors.New(
			"plain HTTP is served on this computer only: give --cert and --key, or --behind-proxy where one has them",
		)
	}
	l, err := listen("the cloud", o.listen)
	if err != nil {
		return err
	}
	scheme := "http"
	if o.cert != "" {
		c := &certificate{cert: o.cert, key: o.key}
		pair, err := c.get(nil)
		if err != nil {
			return err
		}
		if len(o.addresses) == 0 {
			o.addresses = namesOf(*pair, l.Addr())
		}
		l, scheme = tls.NewListener(l, &tls.Config{GetCertificate: c.get, MinVersion: tls.VersionTLS13}), "https"
	}
	if err := os.MkdirAll(filepath.Dir(o.file), 0o700); err != nil {
		return err
	}
	c, err := cloud.New(ctx, o.file, cloud.DefaultLimits, slog.New(slog.NewJSONHandler(os.Stderr, nil)))
	if err != nil {
		return err
	}
	c.Admission = admission
	if post != nil {
		c.Post = post
	}
	c.SetQuota(o.quota)
	if c.Proxies, err = readProxies(o.proxies); err != nil {
		return errors.Join(err, c.Close())
	}
	for _, a := range o.addresses {
		c.Addresses = append(c.Addresses, wire.Authority("https", strings.TrimPrefix(a, "https://")))
	}
	servers := []*server{serveOn("the cloud", l, c, c.EndStreams)}
	if o.metrics != "" {
		m, err := serve("the cloud's metrics", o.metrics, c.Metrics(), nil)
		if err != nil {
			servers[0].close()
			return errors.Join(err, c.Close())
		}
		servers = append(servers, m)
	}
	fmt.Printf("The cloud is at %s://%s\nIts data is in %s\n", scheme, l.Addr(), o.file)
	return errors.Join(waitFor(ctx, servers...), c.Close())
}

// namesOf are the addresses that a certificate is for.
func namesOf(pair tls.Certificate, at net.Addr) (list []string) {
	if pair.Leaf == nil {
		return nil
	}
	port := at.(*net.TCPAddr).Port
	for _, name := range pair.Leaf.DNSNames {
		if !strings.HasPrefix(name, "*") {
			list = append(list, fmt.Sprintf("%s:%d", name, port))
		}
	}
	return list
}

// boot names the present start of the computer, where the system tells.
func boot() string {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}

func platform() string {
	names := map[string]string{"darwin": "macOS", "windows": "Windows", "linux": "Linux"}
	if n, ok := names[runtime.GOOS]; ok {
		return n
	}
	return runtime.GOOS
}

// openBrowser shows an address in the user's browser; where that can't be done
// the address was printed anyway.
func openBrowser(url string) {
	var cmd *exec.Cmd
	switch runtime.GOOS {
	case "darwin":
		cmd = exec.Command("open", url)
	case "windows":
		cmd = exec.Command("rundll32", "url.dll,FileProtocolHandler", url)
	default:
		cmd = exec.Command("xdg-open", url)
	}
	if cmd.Start() == nil {
		go func() { _ = cmd.Wait() }()
	}
}

// practiceURL returns the address of a page of a practice site.
func practiceURL(port int) func(site, path string) string {
	return func(site, path string) string {
		return fmt.Sprintf("http://%s.localhost:%d/%s", site, port, strings.TrimPrefix(path, "/"))
	}
}
