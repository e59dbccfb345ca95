package gateway

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/health"
	"dravit/internal/requests"
)

// notedTable is a table whose requests are noted, with the log and the folder of the parts' logs.
func notedTable(t *testing.T) (tab *table, log func() []requests.Request, logs string) {
	t.Helper()
	logs = t.TempDir()
	file := filepath.Join(logs, "requests.log")
	l := requests.NewLog(func(string) string { return file })
	tab = &table{log: l, logs: func(_, part string) string { return filepath.Join(logs, part+".log") }}
	closed := false
	log = func() []requests.Request {
		if !closed {
			l.Close()
			closed = true
		}
		all, _, err := requests.Since(file, 0, 1<<20)
		require.NoError(t, err)
		return all
	}
	t.Cleanup(func() { log() })
	return tab, log, logs
}

func TestRequestsAreNoted(t *testing.T) {
	tab, log, logs := notedTable(t)
	to := &target{Route: Route{StackID: "abc", Site: "day", Server: "web", App: "app", Behind: []string{"web", "app"}}}
	says := func(text string) {
		f, err := os.OpenFile(filepath.Join(logs, "app.log"), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
		require.NoError(t, err)
		defer f.Close()
		_, err = f.WriteString(text)
		require.NoError(t, err)
	}
	ask := func(path string, edit func(r *http.Request), do func(w http.ResponseWriter)) {
		r := httptest.NewRequest(http.MethodGet, path, nil)
		if edit != nil {
			edit(r)
		}
		tab.follow(httptest.NewRecorder(), r, to, do)
	}
	page := func(w http.ResponseWriter) { _, _ = io.WriteString(w, "hello") }
	ask("/?secret=1", nil, page)
	ask("/fails", nil, func(w http.ResponseWriter) { says("fog\n"); w.WriteHeader(http.StatusInternalServerError) })
	ask("/speaks", func(r *http.Request) { r.Header.Set("Cookie", "a=b") },
		func(w http.ResponseWriter) { says("x\n"); page(w) })
	ask("/early", nil, func(w http.ResponseWriter) { w.WriteHeader(http.StatusEarlyHints); w.WriteHeader(201) })
	ask("/again", func(r *http.Request) { r.Header.Set(health.CheckHeader, health.Again) }, page)
	ask("/check", func(r *http.Request) { r.Header.Set(health.CheckHeader, health.Checks) }, page)
	assert.PanicsWithValue(t, http.ErrAbortHandler, func() {
		ask("/broken", nil, func(w http.ResponseWriter) { page(w); panic(http.ErrAbortHandler) })
	}, "the server has to see it, too")
	to.Private = true
	ask("/inbox", nil, page)

	all := log()
	require.Len(t, all, 6, "Dravit's own checks, and what only the user sees, are left out")
	first := all[0]
	assert.Equal(t, "GET / 200 day web app", strings.Join([]string{first.Method, first.Path, "200", first.Site,
		first.Server, first.App}, " "))
	assert.EqualValues(t, 5, first.Bytes)
	assert.False(t, first.Plain, "it had a query")
	assert.Nil(t, first.From, "nothing was written, and nothing failed")
	assert.WithinDuration(t, time.Now(), first.At, time.Minute)
	assert.Equal(t, map[string]int64{"web": 0, "app": 0}, all[1].From)
	assert.Equal(t, map[string]int64{"web": 0, "app": 4}, all[1].To)
	assert.True(t, all[1].Plain)
	assert.Equal(t, map[string]int64{"web": 0, "app": 4}, all[2].From, "after an answer the lengths are asked anew")
	assert.False(t, all[2].Plain)
	assert.Equal(t, 201, all[3].Status, "what comes before an answer is none")
	assert.True(t, all[4].Again)
	assert.Equal(t, "/broken 0", all[5].Path+" 0")
	assert.Zero(t, all[5].Status)
	assert.True(t, all[5].Failed())
}

// A runtime's errors come a moment later: where its log ended is always noted.
func TestLengthsOfRuntime(t *testing.T) {
	tab, log, _ := notedTable(t)
	to := &target{Route: Route{StackID: "abc", App: "app", Behind: []string{"app"}, Buffered: true}}
	r := httptest.NewRequest(http.MethodGet, "/", nil)
	tab.follow(httptest.NewRecorder(), r, to, func(w http.ResponseWriter) { w.WriteHeader(200) })
	assert.Equal(t, map[string]int64{"app": 0}, log()[0].From)
}
