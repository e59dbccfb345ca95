package php

import (
	"context"
	_ "embed" // the probe
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/fastcgi"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/leg"
	"dravit/internal/pattern"
)

//go:embed probe.php
var probe string

// Verdict is the probe's answer: that PHP runs, in which version, and the result for each store.
type Verdict struct {
	Version string `json:"version"`
	SAPI    string `json:"sapi"`
	// Stores has the result for each store: "ok", or what went wrong. nil: the probe did not ask, as it has no client
	// for it.
	Stores map[string]*string `json:"stores"`

	Versions map[string]string  `json:"versions"` // of the stores that answered
	MS       map[string]float64 `json:"ms"`       // the time for each store
	Took     float64            `json:"took_ms"`  // the whole script

	Found found `json:"found"` // the application's requirements, if they were asked about

	Extensions []string `json:"extensions"` // loaded in the process that serves pages
}

func stores(p kind.Part) string {
	text, _ := json.Marshal(p.Stores) // plain texts cannot fail
	return string(text)
}

// Token reads the secret that the probe of this start expects.
func token(conf string) (string, error) {
	text, err := os.ReadFile(filepath.Join(conf, "token"))
	return strings.TrimSpace(string(text)), err
}

func ping(ctx context.Context, dial fastcgi.Dial) error {
	resp, err := fastcgi.Do(ctx, dial, map[string]string{
		"REQUEST_METHOD": "GET", "SCRIPT_NAME": pingPath, "SCRIPT_FILENAME": pingPath,
		"REQUEST_URI": pingPath, "QUERY_STRING": "",
	}, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, 100))
	if err == nil && string(body) != "pong" {
		err = &kind.Miss{Expected: "pong", Got: string(body)}
	}
	return err
}

// probeFPM makes FPM run the probe script, which asks every store that the part uses.
func probeFPM(ctx context.Context, p kind.Part) error {
	status, body, err := runProbe(ctx, p, "", "")
	if err != nil {
		return err
	}
	return judge(p, status, body)
}

// askFPM returns the probe's answer.
func askFPM(ctx context.Context, p kind.Part, query string) (Verdict, error) {
	var v Verdict
	status, body, err := runProbe(ctx, p, query, "1")
	if err == nil && (status != 200 || json.Unmarshal(body, &v) != nil) {
		err = &kind.Miss{Expected: "the probe's answer", Got: fmt.Sprintf("status %d, %s", status, excerpt(body))}
	}
	return v, err
}

func runProbe(ctx context.Context, p kind.Part, query, asked string) (int, []byte, error) {
	secret, err := token(p.Conf)
	if err != nil {
		return 0, nil, err
	}
	resp, err := fastcgi.Do(ctx, health.Dial("unix", p.Socket), map[string]string{
		"REQUEST_METHOD": "GET", "SCRIPT_FILENAME": filepath.Join(p.Conf, "probe.php"), "SCRIPT_NAME": kind.ProbePath,
		"REQUEST_URI":  kind.ProbePath,
		"QUERY_STRING": query, "SERVER_PROTOCOL": "HTTP/1.1", "GATEWAY_INTERFACE": "CGI/1.1", "REMOTE_ADDR": kind.Host,
		"HTTP_DRAVIT_PROBE": secret, "HTTP_DRAVIT_ASK": asked,
	}, nil)
	if err != nil {
		return 0, nil, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	return resp.Status, body, err
}

// ProbeToken and Judge, with those below, make it a kind.PageMaker.
func (php) ProbeToken(p kind.Part) (string, error) { return token(p.Conf) }

func (php) Judge(p kind.Part, status int, body []byte) error { return judge(p, status, body) }

// Legs returns the legs in the probe's answer.
func (php) Legs(p kind.Part, body []byte) []leg.Leg {
	var v Verdict
	held, failed := true, false
	runtime := leg.Leg{Leg: "runtime", Who: p.Name, Holds: &failed}
	if err := json.Unmarshal(body, &v); err != nil {
		runtime.Got = excerpt(body)
		return []leg.Leg{runtime}
	}
	runtime.Holds, runtime.Version, runtime.MS = &held, v.Version, v.Took
	legs := []leg.Leg{runtime}
	for _, s := range p.Stores {
		l := leg.Leg{Leg: "store", Who: s.Name, Version: v.Versions[s.Name], MS: v.MS[s.Name], Holds: &held}
		switch verdict := v.Stores[s.Name]; {
		case verdict == nil:
			l.Holds, l.Got = nil, "the probe has no client for "+s.Kind
		case *verdict != "ok":
			l.Holds, l.Got = &failed, *verdict
		}
		legs[0].MS -= l.MS
		legs = append(legs, l)
	}
	return legs
}

var broken = pattern.New(`(?m)^(?:PHP )?((?:Fatal|Parse) error: .*)$`)

// Fault returns the error with which PHP ended a page. The status is 200 all the same if errors are shown on the page.
func (php) Fault(page []byte) string {
	if m := broken().FindSubmatch(page); m != nil {
		return excerpt(m[1])
	}
	return ""
}

var logged = pattern.New(`PHP ((?:Fatal|Parse) error: [^\n]*)`)

// LoggedFault returns the last error with which PHP ended a page, if errors go to the log only.
func (php) LoggedFault(log string) string {
	if all := logged().FindAllStringSubmatch(log, -1); all != nil {
		return excerpt([]byte(all[len(all)-1][1]))
	}
	return ""
}

func judge(p kind.Part, status int, body []byte) error {
	var v Verdict
	if err := json.Unmarshal(body, &v); err != nil || status != 200 {
		return &kind.Miss{Expected: "the probe's answer", Got: fmt.Sprintf("status %d, %s", status, excerpt(body))}
	}
	if v.Version != p.Version {
		return &kind.Miss{Expected: "PHP " + p.Version, Got: "PHP " + v.Version}
	}
	if err := lacks(p, "in the web process", names(v.Extensions)); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(v.Stores)) {
		if verdict := v.Stores[name]; verdict != nil && *verdict != "ok" {
			return &kind.Miss{Expected: "PHP reaching " + name, Got: *verdict}
		}
	}
	return nil
}

func excerpt(body []byte) string {
	text := strings.Join(strings.Fields(string(body)), " ")
	if len(text) > 200 {
		text = text[:200] + "..."
	}
	if text == "" {
		return "nothing"
	}
	return text
}
