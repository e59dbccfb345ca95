package stack

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"dravit/internal/gateway"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/leg"
	"dravit/internal/materialise"
	"dravit/internal/pattern"
	"dravit/internal/resolver"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// Trace is the way of one request, leg by leg.
type Trace struct {
	Site    string    `json:"site"`
	URL     string    `json:"url"`
	Answers bool      `json:"answers"`
	MS      float64   `json:"ms"` // of the whole request
	Legs    []leg.Leg `json:"legs"`
}

// Fell returns the first leg that does not hold, nil where all do.
func (t Trace) Fell() *leg.Leg {
	for i, l := range t.Legs {
		if l.Holds != nil && !*l.Holds && !l.Advisory {
			return &t.Legs[i]
		}
	}
	return nil
}

var serverTime = pattern.New(`\bserver;dur=([0-9.]+)`)

// Trace sends one request to a site and says what each leg of its way took: from the name by the gateway and the web server to the runtime and each
// store that it uses, and back.
func (s *Stack) Trace(ctx context.Context, name string) (Trace, error) {
	spec, err := s.spec()
	if err != nil {
		return Trace{}, err
	}
	i := slices.IndexFunc(spec.Sites, func(x materialise.Site) bool { return x.Name == name })
	if i < 0 {
		var all []string
		for _, x := range spec.Sites {
			all = append(all, x.Name)
		}
		return Trace{}, &trouble.Trouble{
			Code:    trouble.NoSite,
			Subject: "site." + name,
			What:    fmt.Sprintf("the stack has no site %q; its sites are %s", name, strings.Join(all, ", ")),
		}
	}
	site := spec.Sites[i]
	target, err := gateway.Target(s.Home, spec, site, s.Kinds)
	if err != nil && !os.IsNotExist(err) {
		return Trace{}, err
	}
	t := Trace{Site: name, URL: site.URL}
	held, failed := true, false
	server, _ := spec.Part(site.Server)
	legs := map[string]*leg.Leg{
		"name":    {Leg: "name", Who: site.Host, Advisory: strings.HasSuffix(site.Host, "."+stackfile.DefaultSuffix)},
		"gateway": {Leg: "gateway", Who: gateway.KindName, Version: s.Version},
		"server":  {Leg: "server", Who: server.Name, Version: server.Version},
	}
	began := time.Now()
	addresses, err := resolver.Addresses(ctx, site.Host)
	legs["name"].MS, legs["name"].Holds = since(began), &held
	switch {
	case err != nil:
		legs["name"].Holds, legs["name"].Got = &failed, err.Error()
	default:
		legs["name"].Got = addresses[0].String()
		if !addresses[0].IsLoopback() {
			legs["name"].Holds = &failed
		}
	}
	var behind []leg.Leg
	if target.App.Name != "" {
		name := "runtime"
		if target.App.Role == kind.RoleApp {
			name = "application"
		}
		behind = []leg.Leg{{Leg: name, Who: target.App.Name}}
		for _, x := range target.App.Stores {
			behind = append(behind, leg.Leg{Leg: "store", Who: x.Name})
		}
		if target.Maker == nil {
			behind = behind[:1]
		}
	}
	finish := func() (Trace, error) {
		t.Legs = append([]leg.Leg{*legs["name"], *legs["gateway"], *legs["server"]}, behind...)
		t.Answers = t.Fell() == nil
		return t, ctx.Err()
	}
	path := site.Expect.URLPath()
	token := ""
	if target.Maker != nil {
		path = kind.ProbePath
		if token, err = target.Maker.ProbeToken(target.App); err != nil {
			token = "none" // PHP does not run: the web server says so
		}
	}
	began = time.Now()
	conn, err := (&net.Dialer{Timeout: health.Deadline}).DialContext(ctx, "tcp", kind.Loopback(spec.Gateway))
	if err != nil {
		legs["gateway"].Holds, legs["gateway"].Got = &failed, health.Plain(err)
		return finish()
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.TrimSuffix(site.URL, "/")+path, nil)
	if err != nil {
		return t, err
	}
	req.Header.Set(health.AskHeader, rand.Text())
	req.Header.Set(kind.ProbeHeader, token)
	client := health.Client(func(context.Context) (net.Conn, error) { return conn, nil })
	client.Timeout = health.Deadline
	resp, err := client.Do(req)
	if err != nil {
		legs["gateway"].Holds, legs["gateway"].Got = &failed, health.Plain(err)
		return finish()
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, 4<<20))
	t.MS = since(began)
	legs["gateway"].Holds, legs["gateway"].MS = &held, t.MS
	m := serverTime().FindStringSubmatch(resp.Header.Get("Server-Timing"))
	if m == nil || err != nil { // nothing of a web server's is in the answer
		legs["server"].Holds, legs["server"].Got = &failed, fmt.Sprintf("status %d from the gateway", resp.StatusCode)
		return finish()
	}
	var passed float64
	_, _ = fmt.Sscan(m[1], &passed) // digits and a dot, or zero
	legs["gateway"].MS = max(0, t.MS-passed)
	legs["server"].Holds, legs["server"].MS = &held, passed
	switch {
	case target.Maker != nil && resp.StatusCode == http.StatusOK:
		behind = target.Maker.Legs(target.App, body)
		for _, l := range behind {
			legs["server"].MS = max(0, legs["server"].MS-l.MS)
		}
	case target.Maker != nil:
		behind[0].Holds, behind[0].Got = &failed, fmt.Sprintf("status %d from the web server", resp.StatusCode)
	case resp.StatusCode >= http.StatusInternalServerError && len(behind) > 0:
		behind[0].Holds, behind[0].Got = &failed, fmt.Sprintf("status %d", resp.StatusCode)
	case len(behind) > 0: // what is the web server's and what the application's of this time cannot be told apart
		behind[0].Holds, behind[0].MS, behind[0].Version = &held, legs["server"].MS, target.App.Version
		legs["server"].MS = 0
	case resp.StatusCode >= http.StatusBadRequest && (site.Expect == nil || site.Expect.Status != resp.StatusCode):
		legs["server"].Holds, legs["server"].Got = &failed, fmt.Sprintf("status %d", resp.StatusCode)
	}
	return finish()
}

func since(began time.Time) float64 { return float64(time.Since(began).Microseconds()) / 1000 }
