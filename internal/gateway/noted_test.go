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
	known := newLengths(func(_, part string) string { return filepath.Join(logs, part+".log") })
	t.Cleanup(known.close)
	l := requests.NewLog(func(string) string { return file }, known.fill)
	tab = &table{log: l, lengths: known}
	closed := false
	log = func() []requests.Request {
		if !closed {
			time.Sleep(3 * lengthEvery)
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
		tab.follow(httptest.NewRecorder(), r, to, func(_ *table, w http.ResponseWriter, _ *http.Request,
			_ *target) {
			do(w)
		})
	}
	page := func(w http.ResponseWriter) { _, _ = io.WriteString(w, "hello") }
	ask("/?secret=1", nil, page)
	time.Sleep(requests.Settles + 5*lengthEvery)
	ask("/fails", nil, func(w http.ResponseWriter) { says("fog\n"); w.WriteHeader(http.StatusInternalServerError) })
	time.Sleep(5 * lengthEvery)
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

// What is written a moment after an answer is noted as such; what was written while nobody asked is of nobody.
func TestLengths(t *testing.T) {
	tab, log, logs := notedTable(t)
	to := &target{Route: Route{StackID: "abc", App: "app", Behind: []string{"app"}}}
	file := filepath.Join(logs, "app.log")
	require.NoError(t, os.WriteFile(file, []byte("before"), 0o600))
	ask := func() {
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		tab.follow(httptest.NewRecorder(), r, to, func(_ *table, w http.ResponseWriter, _ *http.Request, _ *target) {
			w.WriteHeader(200)
		})
	}
	ask()
	time.Sleep(5 * lengthEvery)
	require.NoError(t, os.WriteFile(file, []byte("before, late"), 0o600))
	time.Sleep(requests.Settles + 5*lengthEvery)
	tab.lengths.awake.Store(false) // as after a rest
	require.NoError(t, os.WriteFile(file, []byte("before, late, and long after"), 0o600))
	ask()
	all := log()
	require.Len(t, all, 2)
	assert.Equal(t, map[string]int64{"app": 6}, all[0].From)
	assert.Equal(t, map[string]int64{"app": 6}, all[0].To, "it came late: the keeper reads on")
	assert.Equal(t, map[string]int64{"app": 12}, all[0].Late, "and no further, for the moment")
	assert.Nil(t, all[1].From)
}

func TestSeries(t *testing.T) {
	s := &series{file: filepath.Join(t.TempDir(), "none.log")}
	assert.Zero(t, s.at(5))
	s.lengths = []seenLength{{10, 100}, {20, 200}}
	for at, want := range map[int64]int64{5: 100, 10: 100, 19: 100, 20: 200, 99: 200} {
		assert.Equal(t, want, s.at(at), at)
	}
	for i := range 3 * int64(mostLengths) {
		s.note(i, i)
	}
	assert.LessOrEqual(t, len(s.lengths), mostLengths+1)
}

func BenchmarkFollow(b *testing.B) {
	dir := b.TempDir()
	known := newLengths(func(_, part string) string { return filepath.Join(dir, part+".log") })
	defer known.close()
	l := requests.NewLog(func(string) string { return filepath.Join(dir, "r.log") }, known.fill)
	defer l.Close()
	tab := &table{log: l, lengths: known}
	to := &target{Route: Route{StackID: "abc", Site: "day", Server: "web", Behind: []string{"web"}}}
	r := httptest.NewRequest(http.MethodGet, "/", nil)
	w := httptest.NewRecorder()
	b.ReportAllocs()
	for b.Loop() {
		tab.follow(w, r, to, func(_ *table, w http.ResponseWriter, _ *http.Request, _ *target) { w.WriteHeader(200) })
	}
}

// What a server says of its runtime's error is enough to look for what that writes later.
func TestServerSaysSo(t *testing.T) {
	tab, log, logs := notedTable(t)
	to := &target{Route: Route{StackID: "abc", App: "app", Server: "web", Behind: []string{"web", "app"}}}
	for _, part := range []string{"web", "app"} {
		require.NoError(t, os.WriteFile(filepath.Join(logs, part+".log"), nil, 0o600))
	}
	for _, says := range []string{"", "fog"} {
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		tab.follow(httptest.NewRecorder(), r, to, func(_ *table, w http.ResponseWriter, _ *http.Request, _ *target) {
			assert.NoError(t, os.WriteFile(filepath.Join(logs, "web.log"), []byte(says), 0o600))
			w.WriteHeader(200)
		})
		time.Sleep(requests.Settles + 5*lengthEvery)
	}
	all := log()
	require.Len(t, all, 2)
	assert.Nil(t, all[0].From)
	assert.Equal(t, map[string]int64{"web": 0, "app": 0}, all[1].From)
}
