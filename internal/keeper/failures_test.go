package keeper

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/logfile"
	"dravit/internal/materialise"
	"dravit/internal/pattern"
	"dravit/internal/requests"
)

// fog is a symptom of the boats of these tests.
var fogTraits = kind.Traits{Name: "shop", Role: kind.RoleRuntime, Symptoms: []kind.Symptom{
	kind.When("fog", pattern.New(`fog (\w+)`), "there is fog $1", "wait")}}

type shopKind struct{ boat }

func (shopKind) Traits() *kind.Traits { return &fogTraits }

// watched is a stack with an application whose requests and logs a test writes.
type watched struct {
	*explainer
	t     *testing.T
	log   string
	began time.Time
}

func watchPages(t *testing.T) *watched {
	t.Helper()
	h := newHarbour(t)
	h.kinds = append(h.kinds, shopKind{})
	log := h.home.Stack("abc", "logs", "app.log")
	require.NoError(t, os.MkdirAll(filepath.Dir(log), 0o700))
	h.s.spec = materialise.Spec{ID: "abc", Parts: []kind.Part{{Name: "app", Kind: "shop", Role: kind.RoleRuntime,
		Log: log}}, Sites: []materialise.Site{{Name: "day", App: "app"}}}
	began := time.Now().Add(-time.Minute)
	x := explainer{stack: h.s, file: requests.File(h.home, "abc"), within: time.Minute, since: began.Add(-time.Hour)}
	return &watched{&x, t, log, began}
}

// write appends to a file.
func (w *watched) write(file, text string) {
	w.t.Helper()
	f, err := os.OpenFile(file, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	require.NoError(w.t, err)
	defer f.Close()
	_, err = f.WriteString(text)
	require.NoError(w.t, err)
}

// asked notes a request, so many ms after the test began, during which the application wrote something.
func (w *watched) asked(ms int, path string, status int, said string) {
	w.t.Helper()
	size := func() int64 {
		info, err := os.Stat(w.log)
		if err != nil {
			return 0
		}
		return info.Size()
	}
	r := requests.Request{At: w.began.Add(time.Duration(ms) * time.Millisecond), Site: "day", Method: "GET", Path: path,
		Status: status, MS: 5, App: "app", Plain: true, From: map[string]int64{"app": size()}}
	w.write(w.log, said)
	r.To = map[string]int64{"app": size()}
	l := requests.NewLog(func(string) string { return w.file }, nil)
	l.Add("abc", nil, r)
	l.Close()
}

// open returns the failures after a look, as METHOD PATH CAUSE.
func (w *watched) open() (all []string) {
	w.look(time.Now())
	for _, f := range requests.Open(w.book.All(), time.Now()) {
		all = append(all, f.Path+" "+string(f.Cause)+" "+f.What)
	}
	return all
}

func TestPagesAreExplained(t *testing.T) {
	w := watchPages(t)
	assert.Empty(t, w.open())
	w.asked(0, "/a", 500, "fog here\n")
	w.asked(100, "/b", 200, "GET /b\n")
	w.asked(200, "/c", 200, "fog there\n")
	w.asked(300, "/d", 404, "")
	assert.Equal(t, []string{"/c fog there is fog there", "/a fog there is fog here"}, w.open(),
		"each by its own words, the last one first")
	w.asked(400, "/a", 200, "")
	assert.Equal(t, []string{"/c fog there is fog there"}, w.open(), "it works again")
	w.asked(500, "/c", 200, "fog there\n")
	w.open()
	assert.Equal(t, 2, requests.Open(w.book.All(), time.Now())[0].Count)
}

// What is written a moment after an answer belongs to it, until the next request comes.
func TestLateWords(t *testing.T) {
	w := watchPages(t)
	w.asked(0, "/a", 500, "")
	w.write(w.log, "fog late\n")
	w.asked(100, "/b", 200, "")
	assert.Equal(t, []string{"/a fog there is fog late"}, w.open())
	w.asked(200, "/c", 500, "nothing\n")
	assert.Equal(t, "/c page-failed a page ends with status 500, and nothing says why", w.open()[0])
}

// What is there when a request is noted is its own, though the next one, which nobody knows yet, has written already.
func TestLateWordsBeforeTheNext(t *testing.T) {
	w := watchPages(t)
	w.write(w.log, "fog late\n")
	late := logfile.Size(w.log)
	w.write(w.log, "fog next\n")
	l := requests.NewLog(func(string) string { return w.file }, nil)
	l.Add("abc", nil, requests.Request{At: w.began, Site: "day", Method: "GET", Path: "/a", Status: 500, MS: 5,
		App: "app", From: map[string]int64{"app": 0}, To: map[string]int64{"app": 0},
		Late: map[string]int64{"app": late}})
	l.Close()
	assert.Equal(t, []string{"/a fog there is fog late"}, w.open())
}

// What is written long after an answer is nobody's, if no other request is known: it may be of one that is not yet.
func TestWordsOfNobody(t *testing.T) {
	w := watchPages(t)
	w.asked(0, "/a", 500, "")
	w.write(w.log, "fog somewhere\n")
	assert.Equal(t, []string{"/a page-failed a page ends with status 500, and nothing says why"}, w.open())
}

// What another request's page wrote is not a silent one's, though the silent one is in the log of requests first.
func TestWordsOfTheNext(t *testing.T) {
	w := watchPages(t)
	ms := int(time.Since(w.began) / time.Millisecond)
	w.asked(ms-200, "/silent", 500, "")
	from := logfile.Size(w.log)
	w.write(w.log, "fog here\n")
	w.look(w.began.Add(time.Duration(ms) * time.Millisecond))
	require.Empty(t, w.book.All(), "the next request may have come already")
	l := requests.NewLog(func(string) string { return w.file }, nil)
	l.Add("abc", nil, requests.Request{At: w.began.Add(time.Duration(ms-150) * time.Millisecond), Site: "day",
		Method: "GET", Path: "/foggy", Status: 500, MS: 5, App: "app",
		From: map[string]int64{"app": from}, To: map[string]int64{"app": logfile.Size(w.log)}})
	l.Close()
	w.look(time.Now().Add(time.Second))
	causes := map[string]string{}
	for _, f := range w.book.All() {
		causes[f.Path] = string(f.Cause)
	}
	assert.Equal(t, map[string]string{"/silent": "page-failed", "/foggy": "fog"}, causes)
}

// A page that works again at once is not said to fail, whether or not a look comes between.
func TestWorksBeforeItIsExplained(t *testing.T) {
	for _, between := range []bool{true, false} {
		w := watchPages(t)
		ms := int(time.Since(w.began) / time.Millisecond)
		w.asked(ms-200, `/a&"b`, 500, "fog here\n")
		if between {
			w.look(w.began.Add(time.Duration(ms) * time.Millisecond))
		}
		well := requests.Request{At: w.began.Add(time.Duration(ms-100) * time.Millisecond), Site: "day",
			Method: "GET", Path: `/a&"b`, Status: 200, App: "app"}
		l := requests.NewLog(func(string) string { return w.file }, nil)
		l.Add("abc", nil, well)
		l.Close()
		w.look(w.began.Add(time.Duration(ms+100) * time.Millisecond))
		w.look(time.Now().Add(time.Second))
		require.Len(t, w.book.All(), 1)
		assert.WithinDuration(t, well.At, w.book.All()[0].Mended, 0)
	}
}

// A request that was answered well while another one failed is not blamed for what that one's application wrote.
func TestPagesBesideOthers(t *testing.T) {
	w := watchPages(t)
	w.asked(0, "/a", 500, "fog here\n")
	beside := requests.Request{At: w.began.Add(2 * time.Millisecond), Site: "day", Method: "GET", Path: "/b",
		Status: 200,
		MS:     5, App: "app", From: map[string]int64{"app": 0}, To: map[string]int64{"app": 9}}
	l := requests.NewLog(func(string) string { return w.file }, nil)
	l.Add("abc", nil, beside)
	l.Close()
	assert.Equal(t, []string{"/a fog there is fog here"}, w.open())
}

// Requests from before the start are none of it.
func TestWhichRequestsCount(t *testing.T) {
	w := watchPages(t)
	w.asked(-2*60*60*1000, "/old", 500, "fog old\n")
	w.asked(0, "/now", 500, "fog now\n")
	assert.Equal(t, []string{"/now fog there is fog now"}, w.open())
}

// A look has no time for all on a slow machine: the next ones do the rest.
func TestLittleTimeToExplain(t *testing.T) {
	w := watchPages(t)
	w.within = 0
	w.asked(0, "/a", 500, "fog here\n")
	w.asked(100, "/b", 500, "fog there\n")
	assert.Equal(t, []string{"/a fog there is fog here"}, w.open())
	assert.Equal(t, []string{"/b fog there is fog there", "/a fog there is fog here"}, w.open())
	w.asked(200, "/b", 200, "")
	assert.Equal(t, []string{"/a fog there is fog here"}, w.open())
	assert.Empty(t, w.waits)
}

// However many pages fail in however many ways, a look explains a few.
func TestManyFailures(t *testing.T) {
	var all []requests.Request
	from := map[string]int64{"app": 0}
	for i := range 5000 {
		all = append(all, requests.Request{Path: "/" + string(rune('a'+i%200)), Status: 500, From: from})
	}
	groups := together(all)
	assert.Len(t, groups, explainMost)
	assert.Len(t, groups[0], 25)
}
