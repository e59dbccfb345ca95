package report

import (
	"encoding/xml"
	"io"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/about"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/requests"
	"dravit/internal/stack"
)

func data() Data {
	yes, no := true, false
	at := time.Date(2026, 11, 23, 7, 30, 0, 0, time.UTC)
	span := func(phase lifecycle.Phase, from, to int, waitsFor string) lifecycle.Span {
		return lifecycle.Span{Phase: phase, From: at.Add(time.Duration(from) * time.Millisecond),
			To: at.Add(time.Duration(to) * time.Millisecond), For: waitsFor}
	}
	return Data{
		Spec: materialise.Spec{Name: "ferry <&>", Dir: "/p/ferry", HTTPPort: 8080, HTTPSPort: 8443,
			Parts: []kind.Part{
				{Name: "web", Kind: "nginx", Version: "1.22", Role: kind.RoleWeb, Socket: "/s"},
				{Name: "app", Kind: "php", Role: kind.RoleRuntime, Uses: []string{"db"}, Socket: "/s"},
				{Name: "db", Kind: "mariadb", Role: kind.RoleDatabase, Port: 13306},
			},
			Sites: []materialise.Site{{Name: "ferry", Host: "ferry.localhost", URL: "http://ferry.localhost:8080/",
				Server: "web", App: "app"}}},
		Checked: stack.Checked{
			Parts: []stack.PartCheck{{Name: "web", Kind: "nginx", State: lifecycle.Answers,
				Rungs: []health.Result{{Rung: kind.Alive, Holds: &yes, MS: 1}}},
				{Name: "app", Kind: "php", State: lifecycle.Answers},
				{Name: "db", Kind: "mariadb", State: lifecycle.Failed, Rungs: []health.Result{
					{Rung: kind.Alive, Holds: &no, Expected: "a running process", Got: "<none>"},
					{Rung: kind.Open},
				}}},
			Sites: []health.SiteResult{{Name: "ferry", State: lifecycle.Unwell, Rungs: []health.Result{
				{Rung: kind.Resolves, Holds: &no, Advisory: true},
				{Rung: kind.Reaches, Holds: &yes},
			}}},
			Failures: []requests.Failure{{Site: "ferry", Method: "GET", Path: "/fares", Count: 3,
				Cause: "application-error", What: "no <berth>", Place: "fares.php:4"}}},
		Plan: plan.Plan{Decisions: []plan.Decision{{Subject: about.Parse("part.db.port"), Choice: "13306",
			Because:  []string{"the first free port"},
			Rejected: []plan.Option{{Option: "3306", Because: "held by <mysqld>"}}}},
			Changes: []plan.Change{{Subject: about.Parse("part.app.version"), Was: "php 8.1", Now: "php 8.2",
				Because: "it was upgraded"}}},
		Starts: []stack.StartRecord{{At: at, Took: 300, Begun: []string{"web"}, Spans: map[string][]lifecycle.Span{}},
			{At: at, Took: 200, All: true, Begun: []string{"web", "app", "db"}, Spans: map[string][]lifecycle.Span{
				"db": {span(lifecycle.PhasePreparing, 20, 30, ""), span(lifecycle.PhaseStarting, 30, 150, ""),
					span(lifecycle.PhaseAnswering, 150, 160, "")},
				"app": {span(lifecycle.PhaseWaiting, 40, 160, "db"), span(lifecycle.PhaseAnswering, 160, 190, "")}}}},
		At: at, Version: "0.1.0",
	}
}

// wellFormed reads an XML text to its end.
func wellFormed(t *testing.T, text string) {
	t.Helper()
	in := xml.NewDecoder(strings.NewReader(text))
	for {
		if _, err := in.Token(); err == io.EOF {
			return
		} else {
			require.NoError(t, err)
		}
	}
}

func TestHTML(t *testing.T) {
	got, err := HTML(data())
	require.NoError(t, err)
	text := string(got)
	for _, want := range []string{"ferry &lt;&amp;&gt;", "2 of 4 answer",
		"alive: expected a running process, got &lt;none&gt;", "not 3306: held by &lt;mysqld&gt;",
		"was php 8.1, is php 8.2", "for db", "200 ms until everything answered",
		"<code>GET /fares</code>", "no &lt;berth&gt; <code>fares.php:4</code>",
		`aria-label="open not asked"`, `aria-label="resolves does not hold; advisory"`} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "<none>")
	assert.NotContains(t, text, "ZgotmplZ", "the template took everything for what it is")
	assert.Empty(t, regexp.MustCompile(`(?:src|href)="|url\(|@import|<script`).FindAllString(text, -1),
		"nothing from outside")
	_, err = HTML(Data{})
	assert.NoError(t, err, "a stack that was never started has a report, too")
}

func TestPictures(t *testing.T) {
	for _, picture := range Pictures {
		got, err := SVG(data(), picture)
		require.NoError(t, err)
		wellFormed(t, string(got))
		assert.Contains(t, string(got), `xmlns="http://www.w3.org/2000/svg"`)
		_, err = SVG(Data{}, picture)
		assert.ErrorContains(t, err, "nothing to draw")
	}
	_, err := SVG(data(), "weather")
	assert.ErrorContains(t, err, "topology, timeline, starts")
	got, err := SVG(data(), "topology")
	require.NoError(t, err)
	assert.Equal(t, 4, strings.Count(string(got), `class="edge"`), "site, gateway, web server, runtime, store")
	got, err = SVG(data(), "starts")
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(got), `class="answering"`), "only whole starts can be compared")
}

func TestTick(t *testing.T) {
	for end, want := range map[float64]float64{8: 1, 100: 20, 258: 50, 1419: 200, 40000: 5000} {
		assert.Equal(t, want, tick(end), end)
	}
}
