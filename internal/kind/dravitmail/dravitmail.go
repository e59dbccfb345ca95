// Package dravitmail is the kind for the mail catcher that is built into Dravit: an SMTP server that keeps every
// message and sends none on, with an inbox as a web page and as JSON.
package dravitmail

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/mail"
	"net/smtp"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/proc"
	"dravit/internal/stackfile"
	"dravit/internal/webrules"
)

// Name is the kind's name in a stack file.
const Name = "dravit-mail"

// New returns the kind.
func New() kind.Kind { return catcher{} }

type catcher struct{ kind.StoreDefaults }

var _ kind.Inbox = catcher{}

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Name:     Name,
		Signs:    signs,
		Role:     kind.RoleMail,
		Keys:     []string{"port", "main"},
		Serve:    serve,
		Symptoms: kind.OwnSymptoms(),
		Pages:    true,
	}
})

func (catcher) Traits() *kind.Traits { return traits() }

func (catcher) Needs(stackfile.PartConfig) kind.Needs {
	return kind.Needs{Port: true, PortBase: 11025, Socket: true, Data: true}
}

func (catcher) Exports(p kind.Part) kind.Exports {
	port := fmt.Sprint(p.Port)
	link := "smtp://" + kind.Host + ":" + port
	return kind.Exports{URL: link, Common: map[string]string{
		"MAIL_MAILER": "smtp", "MAIL_HOST": kind.Host, "MAIL_PORT": port, "SMTP_HOST": kind.Host,
		"SMTP_PORT": port, "MAILER_DSN": link,
	}}
}

type config struct {
	SMTP   string `json:"smtp"`   // host:port
	Socket string `json:"socket"` // the inbox
	Folder string `json:"folder"` // a file for each message
	Host   string `json:"host"`   // the inbox's host name; requests for others are refused
	Token  string `json:"token"`  // what a form must carry to change something
}

func (catcher) Files(p kind.Part) ([]kind.File, error) {
	c := config{SMTP: p.Address(), Socket: p.Socket, Folder: p.Data, Token: p.Password}
	if len(p.Sites) > 0 {
		c.Host = p.Sites[0].Host
	}
	return kind.ConfigFile("mail.json", c)
}

func (catcher) Command(p kind.Part) kind.Command { return kind.OwnCommand(p, "mail.json") }

func (catcher) Ladder(p kind.Part) []kind.Rung {
	address := p.Address()
	lower, shared := health.LowerRungs(p, "tcp", address)
	return append(lower,
		kind.Rung{Name: kind.Greets, Ask: func(ctx context.Context) error {
			return dialogue(ctx, shared, func(c *smtp.Client) error { return c.Noop() })
		}},
		kind.Rung{Name: kind.Works, Ask: func(ctx context.Context) error {
			// Go as far as a message goes without leaving one behind.
			if err := dialogue(ctx, shared, func(c *smtp.Client) error {
				if err := c.Mail("probe@dravit.localhost"); err != nil {
					return err
				}
				if err := c.Rcpt("probe@dravit.localhost"); err != nil {
					return err
				}
				return c.Reset()
			}); err != nil {
				return err
			}
			_, err := catcher{}.Mails(ctx, p)
			return err
		}})
}

// Mails asks for the messages as a browser does.
func (catcher) Mails(ctx context.Context, p kind.Part) ([]kind.Mail, error) {
	var all struct{ Messages []kind.Mail }
	err := get(ctx, p, "/messages.json", &all)
	return all.Messages, err
}

// Mail asks for one message as a browser does.
func (catcher) Mail(ctx context.Context, p kind.Part, id string) (kind.Mail, error) {
	var m kind.Mail
	err := get(ctx, p, "/message/"+url.PathEscape(id)+"/json", &m)
	return m, err
}

// get asks the inbox for an object.
func get(ctx context.Context, p kind.Part, path string, into any) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+p.Sites[0].Host+path, nil)
	if err != nil {
		return err
	}
	resp, err := health.Client(health.Dial("unix", p.Socket)).Do(req)
	if err != nil {
		return &kind.Miss{Expected: "the inbox", Got: health.Plain(err)}
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(resp.Body).Decode(into); err != nil {
		return &kind.Miss{Expected: "the inbox", Got: resp.Status}
	}
	return nil
}

func dialogue(ctx context.Context, shared *health.SharedConn, do func(*smtp.Client) error) error {
	conn, err := shared.Take(ctx)
	if err != nil {
		return err
	}
	if deadline, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(deadline)
	}
	c, err := smtp.NewClient(conn, kind.Host)
	if err != nil {
		conn.Close()
		return &kind.Miss{Expected: "an SMTP greeting", Got: health.Plain(err)}
	}
	defer c.Close()
	if err := do(c); err != nil {
		return err
	}
	return c.Quit()
}

// Serve catches mail and serves the inbox until the context ends.
func serve(ctx context.Context, file string, _ kind.List) error {
	var c config
	if err := kind.ReadConfig(file, &c); err != nil {
		return err
	}
	box := &box{folder: c.Folder}
	incoming, err := net.Listen("tcp", c.SMTP)
	if err != nil {
		return err
	}
	pages, err := net.Listen("unix", c.Socket)
	if err != nil {
		incoming.Close()
		return err
	}
	if err := os.Chmod(c.Socket, 0o600); err != nil {
		return err
	}
	server := newServer(box)
	ended := make(chan error, 1)
	own := proc.OwnClients(incoming, "554 5.7.1 this catches the mail of another user's stack\r\n")
	go func() { ended <- server.Serve(own) }()
	err = webrules.ServeHTTP(ctx, &http.Server{Handler: inbox(c, box), ReadHeaderTimeout: time.Minute}, pages)
	server.Close()
	<-ended
	return err
}

// Send hands one message to an SMTP server.
func Send(address, from string, to []string, message []byte) error {
	if from == "" {
		from = "dravit@localhost"
	}
	// net/smtp refuses line breaks in addresses, and wants CRLF in the text.
	text := strings.ReplaceAll(strings.ReplaceAll(string(message), "\r\n", "\n"), "\n", "\r\n")
	return smtp.SendMail(address, nil, from, to, []byte(text))
}

// Recipients returns the addresses in a message's To, Cc and Bcc.
func Recipients(message []byte) ([]string, error) {
	m, err := mail.ReadMessage(bytes.NewReader(message))
	if err != nil {
		return nil, err
	}
	var to []string
	for _, name := range []string{"To", "Cc", "Bcc"} {
		list, err := m.Header.AddressList(name)
		if errors.Is(err, mail.ErrHeaderNotPresent) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		for _, a := range list {
			to = append(to, a.Address)
		}
	}
	return to, nil
}

// DeepChecks send a message, find it in the inbox, and delete it.
func (catcher) DeepChecks(p kind.Part) []kind.DeepCheck {
	return []kind.DeepCheck{{Name: "delivers", Ask: func(ctx context.Context) error {
		subject := "Dravit's proof " + rand.Text()
		text := "From: probe@dravit.localhost\r\nTo: probe@dravit.localhost\r\nSubject: " +
			subject + "\r\n\r\nIt arrived.\r\n"
		if err := Send(p.Address(), "probe@dravit.localhost", []string{"probe@dravit.localhost"},
			[]byte(text)); err != nil {
			return err
		}
		all, err := catcher{}.Mails(ctx, p)
		if err != nil {
			return err
		}
		for _, m := range all {
			if m.Subject == subject {
				return os.Remove(filepath.Join(p.Data, m.ID+".eml"))
			}
		}
		return &kind.Miss{Expected: "the message in the inbox", Got: fmt.Sprintf("%d others", len(all))}
	}}}
}
