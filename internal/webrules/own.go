package webrules

import (
	"crypto/subtle"
	"net"
	"net/http"
)

// OwnPages returns a handler for pages of Dravit's own. They answer under one host name only, so that no page of
// another name can read them (DNS rebinding), and take no form of another site. policy is what their content security
// policy allows beside styles and forms, or "".
func OwnPages(host, policy string, pages http.Handler) http.Handler {
	guarded := http.NewCrossOriginProtection().Handler(pages)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked, _, err := net.SplitHostPort(r.Host)
		if err != nil {
			asked = r.Host
		}
		if asked != host {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; "+policy+
			"form-action 'self'; frame-ancestors 'none'; base-uri 'none'")
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("Referrer-Policy", "no-referrer")
		w.Header().Set("Cache-Control", "no-store")
		guarded.ServeHTTP(w, r)
	})
}

// FormToken returns a handler for forms that must carry a token, which only Dravit's own page has.
func FormToken(token string, next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, longestForm)
		if subtle.ConstantTimeCompare([]byte(r.PostFormValue("token")), []byte(token)) != 1 {
			http.Error(w, "403: the form's token is missing or old; reload the page", http.StatusForbidden)
			return
		}
		next(w, r)
	}
}

// longestForm is how long a form may be, in bytes.
const longestForm = 4 << 20
