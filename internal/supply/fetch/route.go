// Package fetch asks sources, and downloads files whose digests are known. What breaks off goes on where it was.
package fetch

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"time"

	"dravit/internal/trouble"
)

// A Route is how sources are asked.
type Route struct {
	LogIn func(address string) string // the value of the header Authorization, or ""; nil: nobody logs in

	client *http.Client
	check  func(address string) error
}

var (
	// Secured is for sources whose word nothing but the connection vouches for.
	Secured = newRoute(CheckAddress)
	// Signed is for sources that sign what they say: they may be asked over http, and may be a folder.
	Signed = newRoute(checkSigned)
	// Exported is for what is in a folder, and for nothing else.
	Exported = newRoute(CheckFolder)
)

func newRoute(check func(string) error) Route {
	transport := &http.Transport{
		Proxy:                 http.ProxyFromEnvironment,
		DialContext:           (&net.Dialer{Timeout: 10 * time.Second}).DialContext,
		TLSHandshakeTimeout:   20 * time.Second,
		ResponseHeaderTimeout: StallAfter,
		ForceAttemptHTTP2:     true,
		MaxIdleConnsPerHost:   AtOnce,
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
	return Route{client: &http.Client{Transport: transport, CheckRedirect: follow}, check: check}
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

// CheckFolder returns an error unless an address is one of a folder.
func CheckFolder(address string) error {
	if u, err := url.Parse(address); err != nil || u.Scheme != "file" || u.Host != "" {
		return errors.Join(err, errors.New("it is not in the folder"))
	}
	return nil
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// HostOf returns the host of an address, without what may be secret in it, or the path of a folder.
func HostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	if u.Scheme == "file" {
		return u.Path
	}
	return u.Host
}

// Ask requests something of a source. The caller must close the body.
func (r Route) Ask(ctx context.Context, method, address string, head map[string]string) (*http.Response, error) {
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
	if r.LogIn != nil { // a redirect to another host does not get it (net/http, Client)
		if value := r.LogIn(address); value != "" {
			req.Header.Set("Authorization", value)
		}
	}
	resp, err := r.client.Do(req)
	if err != nil {
		return nil, Unreached(HostOf(address), err)
	}
	if resp.StatusCode >= 400 {
		resp.Body.Close()
		err := StatusError{address, resp.StatusCode}
		refused := err.Code == http.StatusUnauthorized || err.Code == http.StatusForbidden
		if r.LogIn == nil || !refused {
			return nil, err
		}
		return nil, &trouble.Trouble{Code: trouble.NoSource, What: "the source " + HostOf(address) +
			" refuses to answer", Because: err.Error(),
			Next: "log in to it with its own client, or name its token in your .npmrc", Err: err}
	}
	return resp, nil
}

// Unreached explains why a source was not asked.
func Unreached(host string, err error) error {
	var reason *url.Error
	if errors.As(err, &reason) {
		err = reason.Err
	}
	return &trouble.Trouble{Code: trouble.NoSource, What: "the source " + host + " cannot be asked",
		Because: err.Error(), Next: "try again with a network; what is installed works without one", Err: err}
}

// StatusError is an answer that is none.
type StatusError struct {
	address string
	Code    int
}

func (e StatusError) Error() string {
	return fmt.Sprintf("%s: %d %s", e.address, e.Code, http.StatusText(e.Code))
}

// Secret splits an address into one without a user and a password, and the value of the header Authorization that they
// make, or "". So no message, note or exported file has them.
func Secret(address string) (public, authorization string) {
	u, err := url.Parse(address)
	if err != nil || u.User == nil {
		return address, ""
	}
	password, _ := u.User.Password()
	authorization = "Basic " + base64.StdEncoding.EncodeToString([]byte(u.User.Username()+":"+password))
	u.User = nil
	return u.String(), authorization
}
