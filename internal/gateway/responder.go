package gateway

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/dns/dnsmessage"

	"dravit/internal/kind"
)

// known is what the gateway knows about a host name.
type known int

const (
	knownNothing known = iota // it ends with none of our suffixes
	knownSuffix               // it ends with one of them, and no stack has it
	knownName
)

// responder answers DNS queries (RFC 1035) for the host names of all stacks, over UDP and TCP, on loopback only. It
// does not forward queries.
type responder struct {
	port      int
	known     func(host string) known
	addresses []netip.Addr // the addresses of every name
	udp       net.PacketConn
	tcp       net.Listener
	ctx       context.Context // ends with the responder, and with it the open connections
	end       context.CancelFunc
	wg        sync.WaitGroup
}

const (
	answerLife  = 2   // seconds; a name may vanish when its stack is removed
	maxDatagram = 512 // RFC 1035, section 4.2.1
	lineIdle    = 5 * time.Second
	maxLines    = 64 // TCP connections at a time
)

// respond answers queries on a port, with these addresses for every name, until it is closed.
func respond(port int, addresses []string, tell func(host string) known) (*responder, error) {
	at := netip.AddrPortFrom(netip.MustParseAddr(kind.Host), uint16(port))
	udp, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(at))
	if err != nil {
		return nil, err
	}
	tcp, err := net.ListenTCP("tcp", net.TCPAddrFromAddrPort(at))
	if err != nil {
		udp.Close()
		return nil, err
	}
	r := &responder{port: port, known: tell, udp: udp, tcp: tcp}
	for _, a := range addresses {
		r.addresses = append(r.addresses, netip.MustParseAddr(a))
	}
	r.ctx, r.end = context.WithCancel(context.Background())
	r.wg.Go(r.datagrams)
	r.wg.Go(r.lines)
	return r, nil
}

func (r *responder) close() {
	r.end()
	r.udp.Close()
	r.tcp.Close()
	r.wg.Wait()
}

func (r *responder) datagrams() {
	buf := make([]byte, 4096)
	for {
		n, from, err := r.udp.ReadFrom(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue // a client that is gone
		}
		if answer := r.answer(buf[:n]); answer != nil {
			_, _ = r.udp.WriteTo(answer, from)
		}
	}
}

// lines answers over TCP, with a length of two bytes in front of each message (RFC 7766).
func (r *responder) lines() {
	limit := make(chan struct{}, maxLines)
	for {
		conn, err := r.tcp.Accept()
		if err != nil {
			return
		}
		limit <- struct{}{}
		r.wg.Go(func() {
			defer func() { <-limit }()
			defer conn.Close()
			defer context.AfterFunc(r.ctx, func() { conn.Close() })()
			for {
				_ = conn.SetDeadline(time.Now().Add(lineIdle))
				var length [2]byte
				if _, err := io.ReadFull(conn, length[:]); err != nil {
					return
				}
				query := make([]byte, binary.BigEndian.Uint16(length[:]))
				if _, err := io.ReadFull(conn, query); err != nil {
					return
				}
				answer := r.answer(query)
				if answer == nil {
					return
				}
				if _, err := conn.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(answer))),
					answer...)); err != nil {
					return
				}
			}
		})
	}
}

// answer returns the answer to a query, or nil if the message is none.
func (r *responder) answer(query []byte) []byte {
	var p dnsmessage.Parser
	head, err := p.Start(query)
	if err != nil || head.Response {
		return nil
	}
	out := dnsmessage.Header{ID: head.ID, Response: true, OpCode: head.OpCode, RecursionDesired: head.RecursionDesired}
	questions, err := p.AllQuestions()
	switch {
	case err != nil || len(questions) != 1:
		out.RCode = dnsmessage.RCodeFormatError
		questions = nil
	case head.OpCode != 0:
		out.RCode = dnsmessage.RCodeNotImplemented
	}
	var q dnsmessage.Question
	if len(questions) == 1 {
		q = questions[0]
	}
	if out.RCode == dnsmessage.RCodeSuccess {
		switch r.known(strings.ToLower(strings.TrimSuffix(q.Name.String(), "."))) {
		case knownNothing:
			out.RCode = dnsmessage.RCodeRefused
		case knownSuffix:
			out.RCode, out.Authoritative = dnsmessage.RCodeNameError, true
		case knownName:
			out.Authoritative = true
		}
	}
	b := dnsmessage.NewBuilder(make([]byte, 0, maxDatagram), out)
	b.EnableCompression()
	err = b.StartQuestions()
	for _, q := range questions {
		err = errors.Join(err, b.Question(q))
	}
	if out.RCode == dnsmessage.RCodeSuccess && q.Class == dnsmessage.ClassINET {
		err = errors.Join(err, b.StartAnswers())
		owner := dnsmessage.ResourceHeader{Name: q.Name, Class: dnsmessage.ClassINET, TTL: answerLife}
		for _, a := range r.addresses {
			switch {
			case a.Is4() && (q.Type == dnsmessage.TypeA || q.Type == dnsmessage.TypeALL):
				err = errors.Join(err, b.AResource(owner, dnsmessage.AResource{A: a.As4()}))
			case a.Is6() && (q.Type == dnsmessage.TypeAAAA || q.Type == dnsmessage.TypeALL):
				err = errors.Join(err, b.AAAAResource(owner, dnsmessage.AAAAResource{AAAA: a.As16()}))
			}
		}
	}
	text, finishErr := b.Finish()
	if err := errors.Join(err, finishErr); err != nil {
		slog.Error("cannot answer a DNS query", "error", err)
		return nil
	}
	return text
}
