package dravitmail

import (
	_ "embed"
	"encoding/json"
	"errors"
	"html/template"
	"log/slog"
	"mime"
	"net/http"
	"strconv"
	"sync"

	"dravit/internal/kind"
	"dravit/internal/webrules"
)

//go:embed inbox.html
var pageText string

var page = sync.OnceValue(func() *template.Template { return template.Must(template.New("inbox").Parse(pageText)) })

// inbox serves the messages. It shows HTML mail in a sandbox.
func inbox(c config, b *box) http.Handler {
	mux := http.NewServeMux()
	list := func(w http.ResponseWriter, r *http.Request) ([]kind.Mail, bool) {
		all, err := b.list(r.FormValue("search"))
		if err != nil {
			fail(w, err)
		}
		return all, err == nil
	}
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		if all, ok := list(w, r); ok {
			show(w, pageData{Host: c.Host, SMTP: c.SMTP, Token: c.Token, Search: r.FormValue("search"), List: all})
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
	serveRaw(mux, b)
	serveChanges(mux, c, b)
	return webrules.OwnPages(c.Host, "frame-src 'self'; ", mux)
}

// serveRaw serves messages as they came, and their attachments.
func serveRaw(mux *http.ServeMux, b *box) {
	mux.HandleFunc("GET /message/{id}/source", func(w http.ResponseWriter, r *http.Request) {
		raw, err := b.source(r.PathValue("id"))
		if err != nil {
			fail(w, err)
			return
		}
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = w.Write(raw) // the client left
	})
	mux.HandleFunc("GET /message/{id}/file/{number}", func(w http.ResponseWriter, r *http.Request) {
		number, err := strconv.Atoi(r.PathValue("number"))
		if err != nil {
			number = -1
		}
		name, content, err := b.attachment(r.PathValue("id"), number)
		if err != nil {
			fail(w, err)
			return
		}
		// to be saved, never shown: it is anybody's
		w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
		w.Header().Set("Content-Type", "application/octet-stream")
		_, _ = w.Write(content) // the client left
	})
}

// serveChanges serves the forms that delete messages. They need the token that the inbox's own page carries.
func serveChanges(mux *http.ServeMux, c config, b *box) {
	change := func(do func(r *http.Request) error) http.HandlerFunc {
		return webrules.FormToken(c.Token, func(w http.ResponseWriter, r *http.Request) {
			if err := do(r); err != nil {
				fail(w, err)
				return
			}
			http.Redirect(w, r, "/", http.StatusSeeOther)
		})
	}
	mux.HandleFunc("POST /clear", change(func(*http.Request) error { return b.clear() }))
	mux.HandleFunc("POST /message/{id}/delete", change(func(r *http.Request) error {
		return b.remove(r.PathValue("id"))
	}))
}

type pageData struct {
	Host, SMTP, Token string
	Search            string // what List was searched for, or ""
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
