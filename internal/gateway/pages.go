package gateway

import (
	"bytes"
	_ "embed"
	"fmt"
	"html/template"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"

	"dravit/internal/kind"
	"dravit/internal/webrules"
)

// stopped returns the name of the stack that owns a host name if the stack does not run, else "".
func (t *table) stopped(host string) string {
	if t.book == nil {
		return ""
	}
	book, err := t.book()
	if err != nil {
		slog.Error("the ledger cannot be read", "error", err)
		return ""
	}
	for _, key := range webrules.HostKeys(host) {
		for _, s := range book.Stacks {
			for _, known := range s.Hosts {
				if known == key {
					return s.Name
				}
			}
		}
	}
	return ""
}

// unknown lists the host names that exist, but only under a name that no foreign web page can use (DNS rebinding).
func (t *table) unknown(w http.ResponseWriter, req *http.Request, host string) {
	if name := t.stopped(host); name != "" {
		t.page(w, req, http.StatusServiceUnavailable, pageData{
			Title:   host + " is not running",
			Text:    "It belongs to the stack " + name + ", which does not run:",
			Command: "dravit start --stack " + name,
		})
		return
	}
	data := pageData{
		Title:   "No site is named " + host,
		Text:    "Start its stack in the project's folder:",
		Command: "dravit start",
	}
	if host == "localhost" || host == kind.Host || strings.HasSuffix(host, ".localhost") {
		t.mu.RLock()
		for _, r := range t.routes {
			if strings.HasPrefix(r.Host, "*") {
				continue // no name to link to
			}
			address, usual := url.URL{Scheme: "http", Host: r.Host, Path: "/"}, 80
			if req.TLS != nil {
				address.Scheme, usual = "https", 443
			}
			if port := t.portOf(req); port != usual {
				address.Host = fmt.Sprintf("%s:%d", r.Host, port)
			}
			data.Sites = append(data.Sites, pageSite{address.String(), r.Host, r.Stack})
		}
		t.mu.RUnlock()
		slices.SortFunc(data.Sites, func(a, b pageSite) int { return strings.Compare(a.Host, b.Host) })
	}
	t.page(w, req, http.StatusNotFound, data)
}

type pageData struct {
	Title, Text, Command string
	Sites                []pageSite
}

type pageSite struct{ URL, Host, Stack string }

//go:embed page.html
var pageText string

var page = sync.OnceValue(func() *template.Template { return template.Must(template.New("page").Parse(pageText)) })

// page writes one of the gateway's own pages. Other users of the machine get only its status.
func (t *table) page(w http.ResponseWriter, req *http.Request, status int, data pageData) {
	if !t.private(req) {
		refuse(w, status)
		return
	}
	var b bytes.Buffer
	if err := page().Execute(&b, data); err != nil {
		slog.Error("page", "error", err)
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	w.WriteHeader(status)
	_, _ = w.Write(b.Bytes()) // the visitor may have left
}
