package dravitmail

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"net/textproto"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-smtp"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/pattern"
)

const maxMessage = 32 << 20

// box keeps each message as a file, named by when it came.
type box struct{ folder string }

var idPattern = pattern.New(`^[0-9TZ.]+-[A-Z2-7]{4}$`)

func (b *box) keep(from string, to []string, body []byte) error {
	id := time.Now().UTC().Format("20060102T150405.000Z") + "-" + rand.Text()[:4]
	var head bytes.Buffer
	fmt.Fprintf(&head, "X-Dravit-From: %s\r\nX-Dravit-To: %s\r\n", from, strings.Join(to, ", "))
	return home.WriteFile(filepath.Join(b.folder, id+".eml"), append(head.Bytes(), body...), 0o600)
}

// list returns the messages, the newest first, without their texts. If search is not "", those that have it in their
// addresses, subject or texts, in any case.
func (b *box) list(search string) ([]kind.Mail, error) {
	files, err := filepath.Glob(filepath.Join(b.folder, "*.eml"))
	if err != nil {
		return nil, err
	}
	all := []kind.Mail{}
	for _, f := range files {
		m, err := b.read(strings.TrimSuffix(filepath.Base(f), ".eml"))
		if err != nil {
			continue // cleared meanwhile
		}
		if !has(m, search) {
			continue
		}
		m.Text, m.HTML, m.Files = "", "", nil
		all = append(all, m)
	}
	slices.SortFunc(all, func(a, b kind.Mail) int { return cmp.Compare(b.ID, a.ID) })
	return all, nil
}

func has(m kind.Mail, search string) bool {
	texts := append([]string{m.From, m.Subject, m.Text, m.HTML}, m.To...)
	return slices.ContainsFunc(texts, func(text string) bool {
		return strings.Contains(strings.ToLower(text), strings.ToLower(search))
	})
}

// source returns a message as it came.
func (b *box) source(id string) ([]byte, error) {
	if !idPattern().MatchString(id) {
		return nil, errNoMessage
	}
	raw, err := os.ReadFile(filepath.Join(b.folder, id+".eml"))
	if errors.Is(err, os.ErrNotExist) {
		return nil, errNoMessage
	}
	for range 2 { // X-Dravit-From and X-Dravit-To, see keep
		_, raw, _ = bytes.Cut(raw, []byte("\r\n"))
	}
	return raw, err
}

// attachment returns the attachment of a number, from 0, of a message.
func (b *box) attachment(id string, number int) (name string, data []byte, err error) {
	raw, err := b.source(id)
	if err != nil {
		return "", nil, err
	}
	parsed, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		return "", nil, errNoMessage
	}
	err = errNoMessage
	t := taker{each: func(n int, title string, content []byte) {
		if n == number {
			name, data, err = title, content, nil
		}
	}}
	t.take(textproto.MIMEHeader(parsed.Header), parsed.Body, 0)
	return name, data, err
}

// remove deletes a message.
func (b *box) remove(id string) error {
	if !idPattern().MatchString(id) {
		return errNoMessage
	}
	err := os.Remove(filepath.Join(b.folder, id+".eml"))
	if errors.Is(err, os.ErrNotExist) {
		return errNoMessage
	}
	return err
}

var errNoMessage = errors.New("no such message")

// read returns one message with its texts.
func (b *box) read(id string) (kind.Mail, error) {
	if !idPattern().MatchString(id) {
		return kind.Mail{}, errNoMessage
	}
	raw, err := os.ReadFile(filepath.Join(b.folder, id+".eml"))
	if errors.Is(err, os.ErrNotExist) {
		return kind.Mail{}, errNoMessage
	}
	if err != nil {
		return kind.Mail{}, err
	}
	stamp, _, _ := strings.Cut(id, "-")
	m := kind.Mail{ID: id, Bytes: int64(len(raw))}
	m.At, _ = time.Parse("20060102T150405.000Z", stamp)
	parsed, err := mail.ReadMessage(bytes.NewReader(raw))
	if err != nil {
		m.Subject, m.Text = "(this message cannot be parsed)", string(raw)
		return m, nil
	}
	decode := func(name string) string {
		text := parsed.Header.Get(name)
		if plain, err := new(mime.WordDecoder).DecodeHeader(text); err == nil {
			return plain
		}
		return text
	}
	m.From, m.Subject = cmp.Or(decode("From"), decode("X-Dravit-From")), decode("Subject")
	for _, to := range strings.Split(parsed.Header.Get("X-Dravit-To"), ", ") {
		if to != "" {
			m.To = append(m.To, to)
		}
	}
	t := taker{Mail: m}
	t.take(textproto.MIMEHeader(parsed.Header), parsed.Body, 0)
	return t.Mail, nil
}

// taker takes a message apart.
type taker struct {
	kind.Mail
	each func(number int, name string, content []byte) // gets each attachment; nil: they are named only
}

// take adds one MIME entity (RFC 2045) to the message. It bounds the depth: an attacker may nest without end.
func (m *taker) take(head textproto.MIMEHeader, body io.Reader, depth int) {
	media, params, err := mime.ParseMediaType(cmp.Or(head.Get("Content-Type"), "text/plain"))
	if err != nil {
		media = "text/plain"
	}
	if strings.HasPrefix(media, "multipart/") && depth < 8 {
		parts := multipart.NewReader(body, params["boundary"])
		for {
			p, err := parts.NextRawPart()
			if err != nil {
				return
			}
			m.take(p.Header, p, depth+1)
		}
	}
	switch strings.ToLower(head.Get("Content-Transfer-Encoding")) {
	case "base64":
		body = base64.NewDecoder(base64.StdEncoding, body)
	case "quoted-printable":
		body = quotedprintable.NewReader(body)
	}
	disposition, names, _ := mime.ParseMediaType(head.Get("Content-Disposition"))
	name := cmp.Or(names["filename"], params["name"])
	text, _ := io.ReadAll(io.LimitReader(body, maxMessage))
	switch {
	case disposition == "attachment" || name != "":
		m.Files = append(m.Files, cmp.Or(name, media))
		if m.each != nil {
			m.each(len(m.Files)-1, cmp.Or(name, media), text)
		}
	case media == "text/html":
		m.HTML += string(text)
	case strings.HasPrefix(media, "text/"):
		m.Text += string(text)
	}
}

func (b *box) clear() error {
	files, err := filepath.Glob(filepath.Join(b.folder, "*.eml"))
	for _, f := range files {
		err = errors.Join(err, os.Remove(f))
	}
	return err
}

// newServer accepts mail from anyone to anyone: only this machine reaches it, and no mail leaves it.
func newServer(b *box) *smtp.Server {
	s := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{box: b}, nil }))
	s.Domain = "dravit.localhost"
	s.ReadTimeout, s.WriteTimeout = time.Minute, time.Minute
	s.MaxMessageBytes, s.MaxRecipients = maxMessage, 1000
	s.ErrorLog = slog.NewLogLogger(slog.Default().Handler(), slog.LevelError)
	return s
}

type session struct {
	box  *box
	from string
	to   []string
}

func (s *session) Reset()        { s.from, s.to = "", nil }
func (s *session) Logout() error { return nil }

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	body, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	return s.box.keep(s.from, s.to, body)
}
