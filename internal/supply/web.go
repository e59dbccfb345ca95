package supply

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"time"

	"dravit/internal/trouble"
)

// A route is how sources are asked.
type route struct {
	client *http.Client
	check  func(address string) error
	logIn  func(address string) string // the value of the header Authorization, or ""; nil: nobody logs in
}

var (
	// secured is for sources whose word nothing but the connection vouches for.
	secured = newRoute(CheckAddress)
	// signed is for sources that sign what they say: they may be asked over http, and may be a folder.
	signed = newRoute(checkSigned)
	// exported is for what is in a folder, and for nothing else.
	exported = newRoute(checkFolder)
)

func newRoute(check func(string) error) route {
	transport := &http.Transport{
		Proxy:                 http.ProxyFromEnvironment,
		DialContext:           (&net.Dialer{Timeout: 10 * time.Second}).DialContext,
		TLSHandshakeTimeout:   20 * time.Second,
		ResponseHeaderTimeout: stallAfter,
		ForceAttemptHTTP2:     true,
		MaxIdleConnsPerHost:   atOnce,
	}
	transport.RegisterProtocol("file", http.NewFileTransport(http.Dir("/")))
	follow := func(req *http.Request, via []*http.Request) error {
		if len(via) > 5 {
			return errors.New("too many redirects")
		}
		if req.URL.Scheme != "http" && req.URL.Scheme != "https" {
			return fmt.Errorf("a redirect to %s is not followed", req.URL.Redacted())
		}
		return check(req.URL.String())
	}
	return route{client: &http.Client{Transport: transport, CheckRedirect: follow}, check: check}
}

// CheckAddress returns an error unless an address is https, or on this machine: what a registry says of a package is
// signed by nothing else.
func CheckAddress(address string) error {
	u, err := url.Parse(address)
	switch {
	case err != nil:
		return err
	case u.Scheme == "https" && u.Host != "":
		return nil
	case u.Scheme == "http" && isLoopback(u.Hostname()):
		return nil
	}
	return fmt.Errorf("%s is neither https nor on this machine", u.Redacted())
}

// checkSigned returns an error unless an address is http, https or a folder.
func checkSigned(address string) error {
	u, err := url.Parse(address)
	switch {
	case err != nil:
		return err
	case (u.Scheme == "https" || u.Scheme == "http") && u.Host != "" || u.Scheme == "file" && u.Host == "":
		return nil
	}
	return fmt.Errorf("%s is neither http, https nor file", u.Redacted())
}

// checkFolder returns an error unless an address is one of a folder.
func checkFolder(address string) error {
	if u, err := url.Parse(address); err != nil || u.Scheme != "file" || u.Host != "" {
		return errors.Join(err, errors.New("it is not in the folder"))
	}
	return nil
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// hostOf returns the host of an address, without what may be secret in it, or the path of a folder.
func hostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	if u.Scheme == "file" {
		return u.Path
	}
	return u.Host
}

// ask requests something of a source. The caller must close the body.
func (r route) ask(ctx context.Context, method, address string, head map[string]string) (*http.Response, error) {
	if err := r.check(address); err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, method, address, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", "dravit")
	for name, value := range head {
		req.Header.Set(name, value)
	}
	if r.logIn != nil { // a redirect to another host does not get it (net/http, Client)
		if value := r.logIn(address); value != "" {
			req.Header.Set("Authorization", value)
		}
	}
	resp, err := r.client.Do(req)
	if err != nil {
		return nil, unreached(hostOf(address), err)
	}
	if resp.StatusCode >= 400 {
		resp.Body.Close()
		err := statusError{address, resp.StatusCode}
		refused := err.code == http.StatusUnauthorized || err.code == http.StatusForbidden
		if r.logIn == nil || !refused {
			return nil, err
		}
		return nil, &trouble.Trouble{Code: trouble.NoSource, What: "the source " + hostOf(address) +
			" refuses to answer", Because: err.Error(),
			Next: "log in to it with its own client, or name its token in your .npmrc", Err: err}
	}
	return resp, nil
}

// unreached explains why a source was not asked.
func unreached(host string, err error) error {
	var reason *url.Error
	if errors.As(err, &reason) {
		err = reason.Err
	}
	return &trouble.Trouble{Code: trouble.NoSource, What: "the source " + host + " cannot be asked",
		Because: err.Error(), Next: "try again with a network; what is installed works without one", Err: err}
}

// statusError is an answer that is none.
type statusError struct {
	address string
	code    int
}

func (e statusError) Error() string {
	return fmt.Sprintf("%s: %d %s", e.address, e.code, http.StatusText(e.code))
}
