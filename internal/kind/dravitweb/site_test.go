package dravitweb

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/fcgi"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
)

// office is a site with files, whose FastCGI runtime answers what it was asked to run.
func office(t *testing.T) http.Handler {
	t.Helper()
	root := t.TempDir()
	for name, text := range map[string]string{
		"index.php": "front", "about.php": "about", "style.css": "css", "deep/index.html": "deep",
		"deep/page.html": "page", "empty/x.txt": "x",
		".env": "secret", ".git/config": "secret", "dravit.toml": "secret", "dump.sql": "secret",
		"dump.sql.gz": "secret", ".well-known/security.txt": "hello", "a b.txt": "blank",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	l, err := net.Listen("unix", filepath.Join(t.TempDir(), "fpm"))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		_ = fcgi.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			env := fcgi.ProcessEnv(r)
			body, _ := io.ReadAll(r.Body)
			w.Header().Set("X-Script", strings.TrimPrefix(env["SCRIPT_FILENAME"], root))
			w.Header().Set("X-Port", env["SERVER_PORT"])
			w.Header().Set("X-Https", fmt.Sprint(r.TLS != nil))
			w.Header().Set("X-Remote", r.RemoteAddr)
			w.Header().Set("X-Auth", r.Header.Get("Authorization"))
			w.Header().Set("X-Proxy", env["HTTP_PROXY"])
			_, _ = w.Write(append([]byte("ran with "), body...))
		}))
	}()
	return handler([]kind.VirtualHost{
		{Name: "ferry", Host: "ferry.localhost", Root: root, App: "app",
			FPM: l.Addr().String(), Probe: "/conf/probe.php"},
		{Name: "files", Host: "files.localhost", Root: root},
	})
}

func ask(h http.Handler, method, url, body string, edit ...func(*http.Request)) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, url, strings.NewReader(body))
	r.Header.Set("X-Forwarded-Proto", "https")
	r.Header.Set("X-Forwarded-Port", "8443")
	r.Header.Set("X-Forwarded-For", "127.0.0.1")
	for _, e := range edit {
		e(r)
	}
	w := httptest.NewRecorder()
	h.ServeHTTP(w, r)
	return w
}

func TestSite(t *testing.T) {
	h := office(t)
	for url, want := range map[string]struct {
		code   int
		body   string
		script string
	}{
		"http://ferry.localhost/":                           {200, "ran with ", "/index.php"},
		"http://ferry.localhost/about.php":                  {200, "ran with ", "/about.php"},
		"http://ferry.localhost/about.php/quay/3":           {200, "ran with ", "/about.php"},
		"http://ferry.localhost/sailings/today":             {200, "ran with ", "/index.php"},
		"http://ferry.localhost/gone.php":                   {200, "ran with ", "/index.php"},
		"http://ferry.localhost/style.css":                  {200, "css", ""},
		"http://ferry.localhost/a%20b.txt":                  {200, "blank", ""},
		"http://ferry.localhost/deep/":                      {200, "deep", ""},
		"http://ferry.localhost/deep":                       {301, "", ""},
		"http://ferry.localhost/.env":                       {404, "404", ""},
		"http://ferry.localhost/.git/config":                {404, "404", ""},
		"http://ferry.localhost/deep/../.env":               {404, "404", ""},
		"http://ferry.localhost/%2e%67it/config":            {404, "404", ""},
		"http://ferry.localhost/dravit.toml":                {404, "404", ""},
		"http://ferry.localhost/DUMP.SQL":                   {404, "404", ""},
		"http://ferry.localhost/dump.sql.gz":                {404, "404", ""},
		"http://ferry.localhost/.well-known/security.txt":   {200, "hello", ""},
		"http://ferry.localhost/../../../../etc/passwd":     {400, "above the root", ""},
		"http://ferry.localhost" + kind.ProbePath:           {200, "ran with ", "/conf/probe.php"},
		"http://files.localhost/":                           {403, "403", ""},
		"http://files.localhost/deep/":                      {200, "deep", ""},
		"http://files.localhost/style.css":                  {200, "css", ""},
		"http://files.localhost/nothing":                    {404, "404", ""},
		"http://files.localhost" + kind.ProbePath:           {404, "404", ""},
		"http://harbour.localhost/":                         {404, "404", ""},
		"http://ferry.localhost:8080/style.css?version=1.2": {200, "css", ""},
	} {
		got := ask(h, "GET", url, "")
		assert.Equal(t, want.code, got.Code, url)
		assert.Contains(t, got.Body.String(), want.body, url)
		assert.Equal(t, want.script, got.Header().Get("X-Script"), url)
		assert.NotContains(t, got.Body.String(), "secret", url)
	}
}

func TestPHPIsNotGivenAway(t *testing.T) {
	got := ask(office(t), "GET", "http://files.localhost/about.php", "")
	assert.Equal(t, 404, got.Code)
	assert.NotContains(t, got.Body.String(), "about")
}

func TestFastCGIVariables(t *testing.T) {
	h := office(t)
	got := ask(h, "POST", "http://ferry.localhost/about.php", "salt", func(r *http.Request) {
		r.Header.Set("Authorization", "Bearer kelp")
		r.Header.Set("Proxy", "http://evil.example")
	})
	assert.Equal(t, "ran with salt", got.Body.String())
	assert.Equal(t, "8443", got.Header().Get("X-Port"), "the visitor's port, not the socket's")
	assert.Equal(t, "true", got.Header().Get("X-Https"))
	assert.Contains(t, got.Header().Get("X-Remote"), "127.0.0.1")
	assert.Equal(t, "Bearer kelp", got.Header().Get("X-Auth"))
	assert.Empty(t, got.Header().Get("X-Proxy"), "httpoxy")

	chunked := ask(h, "POST", "http://ferry.localhost/about.php", "", func(r *http.Request) {
		r.Body, r.ContentLength = io.NopCloser(strings.NewReader("kelp in pieces")), -1
	})
	assert.Equal(t, "ran with kelp in pieces", chunked.Body.String())
}

func TestMethods(t *testing.T) {
	got := ask(office(t), "POST", "http://ferry.localhost/style.css", "")
	assert.Equal(t, 405, got.Code)
	got = ask(office(t), "HEAD", "http://ferry.localhost/style.css", "")
	assert.Equal(t, 200, got.Code)
	assert.Equal(t, "text/css; charset=utf-8", got.Header().Get("Content-Type"))
	assert.Equal(t, "no-cache", got.Header().Get("Cache-Control"))
}

func TestRuntimeAway(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(root, "index.php"), nil, 0o644))
	h := handler([]kind.VirtualHost{{Host: "ferry.localhost", Root: root, App: "app",
		FPM: filepath.Join(root, "nobody.sock")}})
	got := ask(h, "GET", "http://ferry.localhost/", "")
	assert.Equal(t, 502, got.Code)
	assert.Contains(t, got.Body.String(), "the runtime app does not answer")
}

func TestProxy(t *testing.T) {
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.WriteString(w, r.Host+" "+r.Header.Get("X-Forwarded-Proto")+" "+r.Header.Get("X-Forwarded-For"))
	}))
	defer app.Close()
	sites := []kind.VirtualHost{{Host: "api.localhost", App: "api", Proxy: strings.TrimPrefix(app.URL, "http://")}}
	got := ask(handler(sites), "GET", "http://api.localhost:8080/x", "")
	assert.Equal(t, "api.localhost:8080 https 127.0.0.1", got.Body.String())
	sites[0].Proxy = "127.0.0.1:1"
	assert.Equal(t, 502, ask(handler(sites), "GET", "http://api.localhost/", "").Code)
}

// An app that answers as soon as it has seen the headers, and a runtime that does, give whole answers: the body that is
// still on its way cuts nothing off.
func TestEarlyAnswers(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				r := bufio.NewReader(conn)
				for line := "x"; line != "\r\n" && err == nil; {
					line, err = r.ReadString('\n')
				}
				_, _ = io.WriteString(conn, "HTTP/1.1 200 OK\r\nConnection: close\r\n\r\nearly, ")
				time.Sleep(time.Millisecond)
				_, _ = io.WriteString(conn, "and whole")
				_, _ = r.Discard(8)
			}()
		}
	}()
	server := httptest.NewServer(handler([]kind.VirtualHost{{Host: "api.localhost",
		App: "api", Proxy: l.Addr().String()}}))
	defer server.Close()
	for i := range 300 {
		req, err := http.NewRequest("POST", server.URL, strings.NewReader("name=Ada"))
		require.NoError(t, err)
		req.Host = "api.localhost"
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		text, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		require.NoError(t, err, "request %d", i)
		require.Equal(t, "early, and whole", string(text))
	}
}
