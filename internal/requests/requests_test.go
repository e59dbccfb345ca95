package requests

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/cause"
)

var noon = time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)

// at is a request so many seconds after noon.
func at(seconds int, path string, status int) Request {
	return Request{At: noon.Add(time.Duration(seconds) * time.Second), Site: "ferry", Method: "GET", Path: path,
		Status: status, MS: 5, Plain: true}
}

func TestRequest(t *testing.T) {
	for r, want := range map[*Request]bool{
		{Status: 200}: false, {Status: 404}: false, {Status: 500}: true, {Status: 0}: true,
		{Status: 0, Left: true}: false, {Status: 502}: true,
	} {
		assert.Equal(t, want, r.Failed(), "%+v", r)
	}
	assert.Equal(t, noon.Add(5*time.Millisecond), at(0, "/", 200).Ended())
}

// What is written is read again, by pieces and from a rotated log.
func TestLog(t *testing.T) {
	file := filepath.Join(t.TempDir(), "requests.log")
	l := NewLog(func(string) string { return file }, nil)
	l.Add("abc", nil, at(0, "/boats", 200))
	l.Add("abc", nil, at(1, "/"+string(make([]byte, 3*maxPath)), 500))
	l.Close()
	all, end, err := Since(file, 0, 1<<20)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, at(0, "/boats", 200), all[0])
	assert.Len(t, all[1].Path, maxPath)
	f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteString("damaged\n{\"at\":\"2026-12-01T12:00:09Z\",\"path\":\"/x\"}\n{\"at\":")
	require.NoError(t, err)
	more, next, err := Since(file, end, 1<<20)
	require.NoError(t, err)
	require.Len(t, more, 1, "a damaged line says nothing, and half a line is left")
	_, err = f.WriteString("\"2026-12-01T12:00:10Z\",\"path\":\"/y\"}\n")
	require.NoError(t, err)
	more, _, err = Since(file, next, 1<<20)
	require.NoError(t, err)
	require.Len(t, more, 1)
	assert.Equal(t, "/y", more[0].Path)
	more, _, err = Since(file, 0, 60)
	require.NoError(t, err)
	assert.Len(t, more, 1, "the end counts")
	more, _, err = Since(file, 1<<30, 1<<20)
	require.NoError(t, err)
	assert.Len(t, more, 4, "it was rotated")
	more, end, err = Since(file+"none", 5, 1<<20)
	require.NoError(t, err)
	assert.Empty(t, more)
	assert.Zero(t, end)

	require.NoError(t, f.Truncate(maxLog+1))
	require.NoError(t, write(file, []noted{{Request: at(20, "/new", 200)}}))
	assert.FileExists(t, file+rotated)
	now, _, err := Since(file, 0, 1<<20)
	require.NoError(t, err)
	assert.Len(t, now, 1)
	require.Error(t, write(filepath.Join(t.TempDir(), "gone", "requests.log"), nil), "it makes no folder")
}

// Whoever adds does not wait, and more than can be written is left out.
func TestMoreThanCanBeWritten(t *testing.T) {
	l := &Log{file: func(string) string { return filepath.Join(t.TempDir(), "x.log") },
		pending: map[string][]noted{}, left: map[string]int{}}
	for range maxPending + 7 {
		l.Add("abc", nil, Request{})
	}
	assert.Len(t, l.pending["abc"], maxPending)
	assert.Equal(t, 7, l.left["abc"])
	l.flush(time.Time{})
	assert.Empty(t, l.pending["abc"])
}

// What is written by hand is what encoding/json reads.
func TestLineOfLog(t *testing.T) {
	r := at(0, "/a\"b\\c\n\x7f/\u00e9 <&>", 500)
	r.MS, r.Bytes, r.Server, r.App, r.Left, r.Again = 0.125, 7, "web", "app", true, true
	r.From, r.To = map[string]int64{"app": 1, "web": 0}, map[string]int64{"app": 9, "web": 0}
	var read Request
	require.NoError(t, json.Unmarshal(r.append(nil), &read))
	assert.Equal(t, r, read)
	read = Request{}
	require.NoError(t, json.Unmarshal(at(0, "/", 200).append(nil), &read))
	assert.Equal(t, at(0, "/", 200), read)
	require.NoError(t, json.Unmarshal(Request{Path: "/\xff"}.append(nil), &read), "a path need not be UTF-8")
	assert.Equal(t, "/\ufffd", read.Path)
}

// A request is written when its words have reached the logs, with their lengths.
func TestRequestsSettle(t *testing.T) {
	file := filepath.Join(t.TempDir(), "requests.log")
	l := &Log{file: func(string) string { return file }, pending: map[string][]noted{}, left: map[string]int{},
		fill: func(stackID string, behind []string, r *Request) {
			assert.Equal(t, "abc [app]", fmt.Sprint(stackID, " ", behind))
			r.From = map[string]int64{"app": 3}
		}}
	l.Add("abc", []string{"app"}, at(0, "/a", 200))
	l.Add("abc", []string{"app"}, at(10, "/b", 200))
	l.flush(noon.Add(5 * time.Second))
	all, _, err := Since(file, 0, 1<<20)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, map[string]int64{"app": 3}, all[0].From)
	require.Len(t, l.pending["abc"], 1)
	l.flush(noon.Add(time.Minute))
	all, _, err = Since(file, 0, 1<<20)
	require.NoError(t, err)
	assert.Len(t, all, 2)
	assert.Empty(t, l.pending)
}

func TestFilter(t *testing.T) {
	boats, slow, api := at(0, "/boats", 200), at(1, "/api/boats/1", 404), at(2, "/api/fares", 502)
	slow.MS, api.Site = 900, "api"
	again := at(3, "/boats", 500)
	again.Again = true
	all := []Request{boats, slow, api, again}
	for _, c := range []struct {
		filter Filter
		want   []Request
	}{
		{Filter{}, []Request{boats, slow, api}}, {Filter{Site: "api"}, []Request{api}},
		{Filter{Status: "404"}, []Request{slow}}, {Filter{Path: "/api/"}, []Request{slow, api}},
		{Filter{Path: "/boats"}, []Request{boats}}, {Filter{Status: "5xx"}, []Request{api}},
		{Filter{Status: "failed"}, []Request{api}}, {Filter{Slower: time.Second / 2}, []Request{slow}},
		{Filter{Path: "/api/*"}, []Request{api}}, {Filter{Since: noon.Add(time.Second)}, []Request{slow, api}},
		{Filter{Path: "["}, nil},
	} {
		assert.Equal(t, c.want, filtered(all, c.filter), "%+v", c.filter)
	}
	for text, ok := range map[string]bool{"": true, "404": true, "5xx": true, "failed": true, "6xx": false, "x": false,
		"50": false, "4x4": false, "5x": false} {
		assert.Equal(t, ok, CheckStatus(text) == nil, text)
	}
}

func TestTail(t *testing.T) {
	file := filepath.Join(t.TempDir(), "requests.log")
	require.NoError(t, write(file+rotated, []noted{{Request: at(0, "/a", 200)}, {Request: at(1, "/b", 200)}}))
	require.NoError(t, write(file, []noted{{Request: at(2, "/c", 200)}, {Request: at(3, "/d", 500)}}))
	all, end, err := Tail(file, 3, Filter{})
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, info.Size(), end)
	require.Len(t, all, 3)
	assert.Equal(t, "/b", all[0].Path)
	all, _, err = Tail(file, 1, Filter{Status: "200"})
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "/c", all[0].Path)
}

func failure(seconds int, path, why string) Failure {
	at := noon.Add(time.Duration(seconds) * time.Second)
	return Failure{Site: "ferry", Method: "GET", Path: path, Cause: cause.ID(why), What: why, Count: 1,
		First: at, Last: at, Plain: true}
}

func TestPathOf(t *testing.T) {
	for _, path := range []string{"/", "/a b", `/","status":`, `/\`, "/\u00e9"} {
		assert.Equal(t, path, PathOf(at(0, path, 200).append(nil)))
	}
	assert.Empty(t, PathOf([]byte("fog")))
	assert.Empty(t, PathOf([]byte(`{"path":"/bo`)))
}

// A failure is of the requests of its site, method and path, from its first to its last.
func TestWhichRequestsAreOfAFailure(t *testing.T) {
	f := failure(5, "/boats", "fog")
	f.Last = noon.Add(9 * time.Second)
	assert.True(t, f.Of(at(5, "/boats", 500)))
	assert.True(t, f.Of(at(9, "/boats", 500)))
	assert.False(t, f.Of(at(4, "/boats", 500)))
	assert.False(t, f.Of(at(10, "/boats", 500)))
	assert.False(t, f.Of(at(7, "/fares", 500)))
	post, quay := at(7, "/boats", 500), at(7, "/boats", 500)
	post.Method, quay.Site = "POST", "quay"
	assert.False(t, f.Of(post))
	assert.False(t, f.Of(quay))
}

// The same failure is one, with its count; what works afterwards is mended, and fails anew.
func TestBook(t *testing.T) {
	var b Book
	b.Fails(failure(0, "/boats", "fog"))
	b.Fails(failure(5, "/boats", "fog"))
	b.Fails(failure(6, "/fares", "storm"))
	open := Open(b.All(), noon.Add(time.Minute))
	require.Len(t, open, 2)
	assert.Equal(t, "/fares", open[0].Path, "the last one first")
	assert.Equal(t, 2, open[1].Count)
	assert.Equal(t, noon, open[1].First)
	b.Works(at(4, "/boats", 200)) // before it failed last
	assert.Len(t, Open(b.All(), noon.Add(time.Minute)), 2)
	b.Works(at(7, "/boats", 200))
	assert.Len(t, Open(b.All(), noon.Add(time.Minute)), 1)
	b.Fails(failure(8, "/boats", "fog"))
	open = Open(b.All(), noon.Add(time.Minute))
	require.Len(t, open, 2)
	assert.Equal(t, 1, open[0].Count, "it begins anew")
	assert.Empty(t, Open(b.All(), noon.Add(11*time.Minute)), "it is no news any more")

	query := failure(9, "/search", "fog")
	query.Plain = false
	b.Fails(query)
	b.Works(at(10, "/search", 200))
	assert.Len(t, Open(b.All(), noon.Add(time.Minute)), 3, "without its query it may well work")
	with := at(11, "/search", 200)
	with.Plain = false
	b.Works(with)
	assert.Len(t, Open(b.All(), noon.Add(time.Minute)), 2)
	kept := AtStart(b.All(), noon.Add(time.Minute))
	require.Len(t, kept, 2, "what needs a query is not kept over a start")
	next := NewBook(kept)
	assert.Empty(t, Open(next.All(), noon.Add(time.Minute)), "nobody has asked since")
	assert.Len(t, Asked(next.All(), noon.Add(time.Minute)), 2)
	again := failure(30, "/boats", "fog")
	again.Count = 0
	next.Fails(again)
	next.Fails(Failure{Path: "/other"})
	open = Open(next.All(), noon.Add(time.Minute))
	require.Len(t, open, 1, "a diagnosis has confirmed it")
	assert.Equal(t, "/boats 1", fmt.Sprint(open[0].Path, " ", open[0].Count))
	for i := range 3 * maxFailures {
		b.Fails(failure(20+i, fmt.Sprint("/", i), "fog"))
	}
	assert.Len(t, b.All(), maxFailures)
	said := b.All()
	said[0].Said = map[string]string{"app": "x"}
	assert.Nil(t, WithoutWords(said)[0].Said)
	assert.NotNil(t, said[0].Said)
}
