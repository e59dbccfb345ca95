package gateway

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"sync"
	"syscall"
	"time"

	"dravit/internal/certificates"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/requests"
	"dravit/internal/webrules"
)

// loopbacks are the addresses on which the gateway listens. Browsers try both for a name below localhost, so another
// program must not get the second one.
var loopbacks = []string{kind.Host, "::1"}

// Serve runs the gateway until the context ends: HTTP on one port, HTTPS with HTTP/2 on the other (0: no HTTPS), both
// on loopback only. It also listens on the table's network ports, which other machines may reach.
func Serve(ctx context.Context, h *home.Home, port, secure int) error {
	again := make(chan os.Signal, 1)
	signal.Notify(again, syscall.SIGHUP) // before another process can know that this one runs
	defer signal.Stop(again)
	key, err := os.ReadFile(keyFile(h))
	if err != nil {
		return err
	}
	book := func() (*ledger.Ledger, error) { return ledger.Read(h) }
	signer := &signer{
		open: func(suffixes []string) (*certificates.Authority, error) {
			return certificates.Open(ctx, h, suffixes)
		}, book: book,
	}
	if err := signer.renew(); err != nil { // without HTTPS, sites still answer over HTTP
		slog.Error("no HTTPS", "error", err)
		secure = 0
	}
	t := &table{file: tableFile(h), key: string(key), port: port, secure: secure, book: book}
	t.lengths = newLengths(func(id, part string) string { return h.Stack(id, "logs", part+".log") })
	defer t.lengths.close()
	t.log = requests.NewLog(func(id string) string { return requests.File(h, id) }, t.lengths.fill)
	defer t.log.Close()
	all := newServers()
	defer all.close()
	listener, err := net.Listen("tcp", net.JoinHostPort(kind.Host, fmt.Sprint(port)))
	if err != nil {
		return err
	}
	all.serve(t.server(t), listener)
	addresses := loopbacks[:1]
	if all.also(t.server(t), port) {
		addresses = loopbacks[:]
	}
	if secure != 0 {
		encrypted := t.server(t)
		encrypted.TLSConfig = &tls.Config{GetCertificate: signer.certificate}
		// a browser that does not trust the certificate says so at each visit
		encrypted.ErrorLog = slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)
		if listener, err := net.Listen("tcp", net.JoinHostPort(kind.Host, fmt.Sprint(secure))); err != nil {
			slog.Error("no HTTPS", "error", err)
		} else {
			all.serve(encrypted, listener)
			all.also(encrypted, secure)
		}
	}
	open := &openings{table: t, book: book, addresses: addresses, open: map[NetworkListener]*servers{}}
	defer open.close()
	for {
		if err := open.follow(); err != nil {
			slog.Error("the gateway's table cannot be read", "error", err)
		}
		select {
		case <-ctx.Done():
			return nil
		case err := <-all.errs:
			return err
		case <-again:
		}
	}
}

// server serves HTTP with a handler.
func (t *table) server(h http.Handler) *http.Server {
	return &http.Server{
		Handler:           h,
		ReadHeaderTimeout: 30 * time.Second,
		ErrorLog:          slog.NewLogLogger(slog.Default().Handler(), slog.LevelWarn),
	}
}

// servers run until they are closed together.
type servers struct {
	ctx    context.Context
	cancel context.CancelFunc
	errs   chan error
	wg     sync.WaitGroup
}

func newServers() *servers {
	s := &servers{errs: make(chan error, 8)}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	return s
}

func (s *servers) serve(server *http.Server, listener net.Listener) {
	s.wg.Go(func() {
		if err := webrules.ServeHTTP(s.ctx, server, listener); err != nil && s.ctx.Err() == nil {
			s.errs <- err
		}
	})
}

// also serves on the other loopback address, if the machine has it, and reports whether it does. If another process has
// the port there, the gateway does without.
func (s *servers) also(server *http.Server, port int) bool {
	listener, err := net.Listen("tcp", net.JoinHostPort(loopbacks[1], fmt.Sprint(port)))
	switch {
	case err == nil:
		s.serve(server, listener)
	case errors.Is(err, syscall.EADDRINUSE):
		slog.Warn("another program uses the gateway's port on the other loopback address", "port", port, "error", err)
	}
	return err == nil
}

// close closes the servers after giving requests in flight a moment to finish.
func (s *servers) close() {
	s.cancel()
	s.wg.Wait()
}

// openings are what the gateway opens and closes while it runs: network listeners and the DNS port.
type openings struct {
	table     *table
	book      func() (*ledger.Ledger, error)
	open      map[NetworkListener]*servers
	addresses []string // the gateway's addresses, which every name resolves to
	resolver  *responder
}

// follow opens and closes listeners as the table says now.
func (d *openings) follow() error {
	now, err := readTable(d.table.file)
	if err != nil {
		return err
	}
	wanted := map[NetworkListener]bool{}
	for _, at := range now.Network {
		wanted[at] = true
	}
	for at, servers := range d.open {
		if !wanted[at] {
			servers.close()
			delete(d.open, at)
		}
	}
	for at := range wanted {
		if d.open[at] != nil {
			continue
		}
		listener, err := net.Listen("tcp", fmt.Sprintf(":%d", at.Port))
		if err != nil {
			slog.Error("cannot listen for other machines", "host", at.Host, "error", err)
			continue
		}
		servers := newServers()
		servers.serve(d.table.server(d.table.siteFor(at)), listener)
		d.open[at] = servers
	}
	if d.resolver != nil && d.resolver.port != now.DNSPort {
		d.resolver.close()
		d.resolver = nil
	}
	if d.resolver == nil && now.DNSPort != 0 {
		if d.resolver, err = respond(now.DNSPort, d.addresses, d.answer); err != nil {
			slog.Error("DNS is off", "port", now.DNSPort, "error", err)
		}
	}
	return nil
}

func (d *openings) close() {
	for _, servers := range d.open {
		servers.close()
	}
	if d.resolver != nil {
		d.resolver.close()
	}
}

// answer returns what the gateway knows about a host name.
func (d *openings) answer(host string) known {
	if to, err := d.table.find(host); err == nil && to != nil || d.table.stopped(host) != "" {
		return knownName
	}
	book, err := d.book()
	if err != nil {
		slog.Error("the ledger cannot be read", "error", err)
		return knownNothing
	}
	for _, suffix := range book.Suffixes() {
		if host == suffix || strings.HasSuffix(host, "."+suffix) {
			return knownSuffix
		}
	}
	return knownNothing
}

// signer returns the certificates of sites. It recreates the authority if it may not certify a new suffix.
type signer struct {
	open func(suffixes []string) (*certificates.Authority, error)
	book func() (*ledger.Ledger, error)

	mu        sync.Mutex
	authority *certificates.Authority
}

// renew opens the authority for the suffixes of all stacks.
func (s *signer) renew() error {
	book, err := s.book()
	if err != nil {
		return err
	}
	a, err := s.open(book.Suffixes())
	if err == nil {
		s.authority = a
	}
	return err
}

// certificate returns the certificate of the host that a client asks for. If the client names no host, or one below
// none of our suffixes, it gets the certificate of localhost, and then a page that lists the sites.
func (s *signer) certificate(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	host := strings.ToLower(strings.TrimSuffix(hello.ServerName, "."))
	s.mu.Lock()
	defer s.mu.Unlock()
	if strings.Contains(host, ".") && !s.authority.Covers(host) {
		if err := s.renew(); err != nil {
			return nil, err
		}
	}
	if strings.Contains(host, ".") && s.authority.Covers(host) {
		return s.authority.Leaf(host)
	}
	return s.authority.Leaf("localhost")
}
