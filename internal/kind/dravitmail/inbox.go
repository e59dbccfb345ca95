package dravitmail

import (
	"crypto/subtle"
	"dravit/internal/kind"
	_ "embed"
	"encoding/json"
	"errors"
	"html/template"
	"log/slog"
	"net"
	"net/http"
	"sync"
)

//go:embed inbox.html
var pageText string

var page = sync.OnceValue(func() *template.Template { return template.Must(template.New("inbox").Parse(pageText)) })

// inbox serves the messages. It answers under its own host name only, so that no page of another name can read it (DNS
// rebinding). Clearing it needs the token that its own page carries. It shows HTML mail in a sandbox.
func inbox(c config, b *box) http.Handler {
	mux := http.NewServeMux()
	list := func(w http.ResponseWriter, _ *http.Request) ([]kind.Mail, bool) {
		all, err := b.list()
		if err != nil {
			fail(w, err)
		}
		return all, err == nil
	}
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		if all, ok := list(w, r); ok {
			show(w, pageData{Host: c.Host, SMTP: c.SMTP, Token: c.Token, List: all})
		}
	})
	mux.HandleFunc("GET /messages.json", func(w http.ResponseWriter, r *http.Request) {
		if all, ok := list(w, r); ok {
			asJSON(w, map[string]any{"format": 1, "messages": all})
		}
	})
	mux.HandleFunc("GET /message/{id}", func(w http.ResponseWriter, r *http.Request) {
		all, ok := list(w, r)
		m, err := b.read(r.PathValue("id"))
		if err != nil {
			fail(w, err)
			return
		}
		if ok {
			show(w, pageData{Host: c.Host, SMTP: c.SMTP, Token: c.Token, List: all, Open: &m})
		}
	})
	mux.HandleFunc("GET /message/{id}/json", func(w http.ResponseWriter, r *http.Request) {
		if m, err := b.read(r.PathValue("id")); err != nil {
			fail(w, err)
		} else {
			asJSON(w, m)
		}
	})
	mux.HandleFunc("POST /clear", func(w http.ResponseWriter, r *http.Request) {
		if subtle.ConstantTimeCompare([]byte(r.PostFormValue("token")), []byte(c.Token)) != 1 {
			http.Error(w, "403: the form's token is missing or old; reload the inbox", http.StatusForbidden)
			return
		}
		if err := b.clear(); err != nil {
			fail(w, err)
			return
		}
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.Host)
		if err != nil {
			host = r.Host
		}
		if host != c.Host {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-src 'self'; "+
			"form-action 'self'; frame-ancestors 'none'; base-uri 'none'")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("Referrer-Policy", "no-referrer")
		w.Header().Set("Cache-Control", "no-store")
		mux.ServeHTTP(w, r)
	})
}

type pageData struct {
	Host, SMTP, Token string
	List              []kind.Mail
	Open              *kind.Mail
}

func show(w http.ResponseWriter, data pageData) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	if err := page().Execute(w, data); err != nil {
		slog.Error("inbox", "error", err)
	}
}

func asJSON(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // the client left
}

func fail(w http.ResponseWriter, err error) {
	if errors.Is(err, errNoMessage) {
		http.Error(w, "404: no such message", http.StatusNotFound)
		return
	}
	slog.Error("inbox", "error", err)
	http.Error(w, "500: the inbox cannot be read", http.StatusInternalServerError)
}
