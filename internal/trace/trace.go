// Package trace follows one request to a site, and says how long each leg (each server on its way) took.
package trace

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"dravit/internal/gateway"
	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/leg"
	"dravit/internal/materialise"
	"dravit/internal/pattern"
	"dravit/internal/resolver"
	"dravit/internal/stackfile"
)

// Trace is the way of one request, leg by leg.
type Trace struct {
	Site    string    `json:"site"`
	URL     string    `json:"url"`
	Answers bool      `json:"answers"`
	MS      float64   `json:"ms"` // of the whole request
	Legs    []leg.Leg `json:"legs"`
}

// FirstMiss returns the first leg that does not hold, advisory ones aside, or nil.
func (t Trace) FirstMiss() *leg.Leg {
	for i, l := range t.Legs {
		if l.Holds != nil && !*l.Holds && !l.Advisory {
			return &t.Legs[i]
		}
	}
	return nil
}

// follower is one request under way.
type follower struct {
	site   materialise.Site
	target health.Target

	name, gateway, server leg.Leg
	behind                []leg.Leg // the runtime or application, then each store that it uses

	took float64 // of the whole request, in ms
}

var held, failed = true, false

// Follow sends one request to a site of the stack: through the gateway and the web server to the runtime, and from
// there to each store that it uses. version is Dravit's own.
func Follow(ctx context.Context, h *home.Home, spec materialise.Spec, kinds kind.List, version string,
	site materialise.Site) (Trace, error) {
	target, err := gateway.Target(h, spec, site, kinds)
	if err != nil && !os.IsNotExist(err) {
		return Trace{}, err
	}
	server, _ := spec.Part(site.Server)
	advisory := strings.HasSuffix(site.Host, "."+stackfile.DefaultSuffix)
	f := &follower{
		site:    site,
		target:  target,
		name:    leg.Leg{Leg: "name", Who: site.Host, Advisory: advisory},
		gateway: leg.Leg{Leg: "gateway", Who: gateway.KindName, Version: version},
		server:  leg.Leg{Leg: "server", Who: server.Name, Version: server.Version},
		behind:  expected(target),
	}
	f.resolve(ctx)
	if err := f.ask(ctx, kind.Loopback(spec.HTTPPort)); err != nil {
		return Trace{}, err
	}
	t := Trace{Site: site.Name, URL: site.URL, MS: f.took}
	t.Legs = append([]leg.Leg{f.name, f.gateway, f.server}, f.behind...)
	t.Answers = t.FirstMiss() == nil
	return t, ctx.Err()
}

// expected returns the legs behind the web server before anything was asked. Only a runtime with a probe reports on
// stores.
func expected(target health.Target) []leg.Leg {
	if target.App.Name == "" {
		return nil
	}
	if target.App.Role == kind.RoleApp {
		return []leg.Leg{{Leg: "application", Who: target.App.Name}}
	}
	legs := []leg.Leg{{Leg: "runtime", Who: target.App.Name}}
	if target.Maker == nil {
		return legs
	}
	for _, x := range target.App.Stores {
		legs = append(legs, leg.Leg{Leg: "store", Who: x.Name})
	}
	return legs
}

// resolve asks the system's resolver. The request does not depend on it: it connects to loopback, as a browser does.
func (f *follower) resolve(ctx context.Context) {
	began := time.Now()
	addresses, err := resolver.Addresses(ctx, f.site.Host)
	f.name.MS, f.name.Holds = since(began), &held
	if err != nil {
		f.name.Holds, f.name.Got = &failed, err.Error()
		return
	}
	f.name.Got = addresses[0].String()
	if !addresses[0].IsLoopback() {
		f.name.Holds = &failed
	}
}

// ask sends the request through the gateway and reads the answer. A request that could not be made is an error; one
// without an answer shows in the legs.
func (f *follower) ask(ctx context.Context, entrance string) error {
	path, token := f.site.Expect.URLPath(), ""
	if f.target.Maker != nil {
		var err error
		path = kind.ProbePath
		if token, err = f.target.Maker.ProbeToken(f.target.App); err != nil {
			token = "none" // the runtime does not run: the web server says so
		}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.TrimSuffix(f.site.URL, "/")+path, nil)
	if err != nil {
		return err
	}
	req.Header.Set(health.AskHeader, rand.Text())
	req.Header.Set(kind.ProbeHeader, token)
	began := time.Now()
	conn, err := (&net.Dialer{Timeout: health.Deadline}).DialContext(ctx, "tcp", entrance)
	if err != nil {
		f.gateway.Holds, f.gateway.Got = &failed, health.Plain(err)
		return nil
	}
	client := health.Client(func(context.Context) (net.Conn, error) { return conn, nil })
	client.Timeout = health.Deadline
	resp, err := client.Do(req)
	if err != nil {
		f.gateway.Holds, f.gateway.Got = &failed, health.Plain(err)
		return nil
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, 4<<20))
	f.took = since(began)
	f.answered(resp, body, err)
	return nil
}

// serverTime is the header in which the gateway says how long the web server and all behind it took (W3C, Server
// Timing).
var serverTime = pattern.New(`\bserver;dur=([0-9.]+)`)

// answered divides the time of the request among the legs. err is the error of reading the body.
func (f *follower) answered(resp *http.Response, body []byte, err error) {
	f.gateway.Holds, f.gateway.MS = &held, f.took
	m := serverTime().FindStringSubmatch(resp.Header.Get("Server-Timing"))
	if m == nil || err != nil { // the answer does not come from a web server
		f.server.Holds, f.server.Got = &failed, fmt.Sprintf("status %d from the gateway", resp.StatusCode)
		return
	}
	var passed float64
	_, _ = fmt.Sscan(m[1], &passed) // digits and a dot, or zero
	f.gateway.MS = max(0, f.took-passed)
	f.server.Holds, f.server.MS = &held, passed
	status := fmt.Sprintf("status %d", resp.StatusCode)
	unexpected := f.site.Expect == nil || f.site.Expect.Status != resp.StatusCode
	switch {
	case f.target.Maker != nil && resp.StatusCode == http.StatusOK:
		f.behind = f.target.Maker.Legs(f.target.App, body)
		for _, l := range f.behind {
			f.server.MS = max(0, f.server.MS-l.MS)
		}
	case f.target.Maker != nil:
		f.behind[0].Holds, f.behind[0].Got = &failed, status+" from the web server"
	case len(f.behind) > 0 && resp.StatusCode >= http.StatusInternalServerError:
		f.behind[0].Holds, f.behind[0].Got = &failed, status
	case len(f.behind) > 0: // the web server's time and the application's cannot be separated
		f.behind[0].Holds, f.behind[0].MS, f.behind[0].Version = &held, f.server.MS, f.target.App.Version
		f.server.MS = 0
	case resp.StatusCode >= http.StatusBadRequest && unexpected:
		f.server.Holds, f.server.Got = &failed, status
	}
}

func since(began time.Time) float64 { return float64(time.Since(began).Microseconds()) / 1000 }
