package dravitweb

import (
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"path"
	"strings"
	"time"

	"dravit/internal/fastcgi"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/webrules"
)

// hidden are paths that no web server of Dravit serves: dot files, stack files and dumps.
var (
	dotted = pattern.New(`(^|/)\.`)
	secret = pattern.New(webrules.SecretPattern)
	source = pattern.New(webrules.ScriptPattern)
	script = pattern.New(`^(.+?\.php)(/.*)?$`)
)

// visited returns the host name that the client used, without a port.
func visited(r *http.Request) string {
	if host, _, err := net.SplitHostPort(r.Host); err == nil {
		return host
	}
	return r.Host
}

func newSite(s kind.VirtualHost) http.Handler {
	if s.Proxy != "" {
		target := &url.URL{Scheme: "http", Host: s.Proxy}
		return &httputil.ReverseProxy{
			Transport: &http.Transport{DialContext: webrules.Early((&net.Dialer{}).DialContext),
				MaxIdleConnsPerHost: 32, IdleConnTimeout: time.Minute, DisableCompression: true},
			FlushInterval: -1,
			Rewrite: func(r *httputil.ProxyRequest) {
				r.SetURL(target)
				r.Out.Host = r.In.Host
				for _, name := range []string{"X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto"} {
					r.Out.Header[name] = r.In.Header[name] // they come from the gateway
				}
				r.Out.Header.Del("X-Forwarded-Port") // X-Forwarded-Host has the port
			},
			ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
				slog.Error("proxy", "path", r.URL.Path, "error", err)
				http.Error(w, "502: the part "+s.App+" does not answer: dravit start, or dravit diagnose",
					http.StatusBadGateway)
			},
		}
	}
	return &site{VirtualHost: s}
}

type site struct{ kind.VirtualHost }

func (s *site) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	name := path.Clean("/" + r.URL.Path)
	if strings.HasSuffix(r.URL.Path, "/") && name != "/" {
		name += "/"
	}
	switch {
	case s.FPM != "" && name == kind.ProbePath:
		s.fastcgi(w, r, s.Probe, kind.ProbePath, "")
	case dotted().MatchString(strings.TrimPrefix(name, webrules.WellKnown)), secret().MatchString(name):
		http.NotFound(w, r)
	case source().MatchString(name) &&
		(s.FPM == "" || strings.HasPrefix(name, webrules.WellKnown) || !script().MatchString(name)):
		http.NotFound(w, r) // the source would be shown, not run
	case script().MatchString(name):
		m := script().FindStringSubmatch(name)
		if s.isFile(m[1]) {
			s.fastcgi(w, r, s.Root+m[1], m[1], m[2])
			return
		}
		s.front(w, r)
	case s.isFile(name):
		s.file(w, r, name)
	case s.isFolder(name):
		s.folder(w, r, name)
	default:
		s.front(w, r)
	}
}

// front passes a path that is no file to the front controller.
func (s *site) front(w http.ResponseWriter, r *http.Request) {
	if s.FPM == "" || !s.isFile("/index.php") {
		http.NotFound(w, r)
		return
	}
	s.fastcgi(w, r, s.Root+"/index.php", "/index.php", "")
}

func (s *site) folder(w http.ResponseWriter, r *http.Request, name string) {
	if !strings.HasSuffix(name, "/") {
		target := url.URL{Path: name + "/", RawQuery: r.URL.RawQuery}
		http.Redirect(w, r, target.String(), http.StatusMovedPermanently)
		return
	}
	switch {
	case s.FPM != "" && s.isFile(name+"index.php"):
		s.fastcgi(w, r, s.Root+name+"index.php", name+"index.php", "")
	case s.isFile(name + "index.html"):
		s.file(w, r, name+"index.html")
	default:
		http.Error(w, "403: this folder has no index", http.StatusForbidden)
	}
}

func (s *site) info(name string) fs.FileInfo {
	if strings.ContainsRune(name, 0) {
		return nil
	}
	info, err := os.Stat(s.Root + name)
	if err != nil {
		return nil
	}
	return info
}

func (s *site) isFile(name string) bool {
	info := s.info(name)
	return info != nil && info.Mode().IsRegular() && !strings.HasSuffix(name, "/")
}

func (s *site) isFolder(name string) bool {
	info := s.info(name)
	return info != nil && info.IsDir()
}

func (s *site) file(w http.ResponseWriter, r *http.Request, name string) {
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		w.Header().Set("Allow", "GET, HEAD")
		http.Error(w, "405 method not allowed", http.StatusMethodNotAllowed)
		return
	}
	f, err := os.Open(s.Root + name)
	if err != nil {
		http.Error(w, "403: this file cannot be read", http.StatusForbidden)
		return
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		http.Error(w, "500", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Cache-Control", "no-cache")
	http.ServeContent(w, r, name, info.ModTime(), f)
}

// fastcgi makes the runtime run a script. It sets the variables of RFC 3875 as the client sees them. They come from the
// gateway, which alone can reach the socket.
func (s *site) fastcgi(w http.ResponseWriter, r *http.Request, file, name, rest string) {
	params := map[string]string{
		"GATEWAY_INTERFACE": "CGI/1.1", "SERVER_SOFTWARE": Name, "QUERY_STRING": r.URL.RawQuery,
		"REQUEST_METHOD": r.Method,
		"CONTENT_TYPE":   r.Header.Get("Content-Type"), "CONTENT_LENGTH": "",
		"REQUEST_URI": r.RequestURI, "DOCUMENT_URI": name,
		"DOCUMENT_ROOT": s.Root, "SERVER_PROTOCOL": r.Proto, "REQUEST_SCHEME": r.Header.Get("X-Forwarded-Proto"),
		"REMOTE_ADDR": r.Header.Get("X-Forwarded-For"), "SERVER_ADDR": kind.Host, "SERVER_NAME": visited(r),
		"SERVER_PORT":     r.Header.Get("X-Forwarded-Port"),
		"REDIRECT_STATUS": "200", "SCRIPT_FILENAME": file, "SCRIPT_NAME": name, "PATH_INFO": rest, "HTTP_HOST": r.Host,
	}
	if params["REQUEST_SCHEME"] == "https" {
		params["HTTPS"] = "on"
	}
	for header, values := range r.Header {
		// HTTP_PROXY would redirect the application's own requests (httpoxy, CVE-2016-5385). The forwarded headers are
		// left out: other variables hold what the gateway says about the client, and an application must not combine a
		// forwarded host with a forwarded port.
		said := header == "Content-Type" || header == "Content-Length" || strings.HasPrefix(header, "X-Forwarded-")
		if header != "Proxy" && !said {
			params["HTTP_"+strings.ToUpper(strings.ReplaceAll(header, "-", "_"))] = strings.Join(values, ", ")
		}
	}
	body, length := io.Reader(r.Body), r.ContentLength
	if length < 0 { // chunked: FPM needs the length first
		spooled, n, err := spool(r.Body)
		if err != nil {
			http.Error(w, "400: the request's body broke off", http.StatusBadRequest)
			return
		}
		defer spooled.Close()
		body, length = spooled, n
	}
	if length > 0 {
		params["CONTENT_LENGTH"] = fmt.Sprint(length)
	}
	resp, err := fastcgi.Do(r.Context(), health.Dial("unix", s.FPM), params, body)
	if err != nil {
		slog.Error("fastcgi", "path", r.URL.Path, "error", err)
		http.Error(w, "502: the runtime "+s.App+" does not answer", http.StatusBadGateway)
		return
	}
	defer resp.Body.Close()
	for name, values := range resp.Header {
		w.Header()[name] = values
	}
	w.WriteHeader(resp.Status)
	flush := http.NewResponseController(w)
	buf := make([]byte, 32<<10)
	for {
		n, err := resp.Body.Read(buf)
		if n > 0 {
			if _, err := w.Write(buf[:n]); err != nil {
				return // the client left
			}
			_ = flush.Flush()
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			slog.Error("fastcgi", "path", r.URL.Path, "error", err)
			panic(http.ErrAbortHandler) // half an answer must not look like a whole one
		}
	}
	if text := strings.TrimSpace(resp.Errors()); text != "" {
		slog.Warn("runtime", "path", r.URL.Path, "says", text)
	}
}

// spool keeps a body of unknown length in a temporary file.
func spool(body io.Reader) (*os.File, int64, error) {
	f, err := os.CreateTemp("", "dravit-body-")
	if err != nil {
		return nil, 0, err
	}
	os.Remove(f.Name()) // the file exists as long as it is open
	n, err := io.Copy(f, body)
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, n, nil
}
