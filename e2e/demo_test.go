package e2e

import (
	"encoding/json"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The demo is what a newcomer sees first: it must come up with one command, on the real servers and without any of
// them.
func TestDemo(t *testing.T) {
	for name, local := range map[string]string{
		"real servers": "",
		"built-in parts": `[part.web]
kind = "dravit-web"
[part.app]
kind = "custom"
[part.db]
kind = "sqlite"
[part.seats]
kind = "dravit-cache"
`,
		"built-in web with PHP": "[part.web]\nkind = \"dravit-web\"\n[part.db]\nkind = \"sqlite\"\n[part.seats]\n" +
			"kind = \"dravit-cache\"\n",
		"own server on MariaDB": "[part.app]\nkind = \"custom\"\n",
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			dir := filepath.Join(w.dir, "demo")
			if local != "" {
				w.must("demo", dir) // writes it, and is then overridden on this machine
				w.must("stop", "-C", dir)
				// as on a new machine: no data was written yet
				removeAll(t, filepath.Join(w.home, "stacks"))
				require.NoError(t, os.MkdirAll(filepath.Join(w.home, "stacks"), 0o700))
				w.own(w.home)
				require.NoError(t, os.WriteFile(filepath.Join(dir, "dravit.local.toml"), []byte(local), 0o644))
			}
			out := w.must("demo", dir)
			assert.Contains(t, out.stdout, "http://ferry.localhost:")
			assert.Contains(t, out.stdout, "dravit demo --remove")
			w.dir = dir

			var s status
			w.json(&s, "status")
			assert.Equal(t, "answers", s.State)
			ferry, crew, inbox := s.Sites[0].URL, s.Sites[1].URL, s.Sites[2].URL
			code, page, _ := get(t, "GET", ferry, nil)
			assert.Equal(t, 200, code)
			assert.Contains(t, page, "Next sailing")
			assert.Contains(t, page, "Sandpiper Bank")
			code, style, head := get(t, "GET", ferry+"style.css", nil)
			assert.Equal(t, 200, code)
			assert.Contains(t, style, "--sea")
			assert.Contains(t, head.Get("Content-Type"), "text/css")

			_, page, _ = get(t, "GET", crew, nil)
			assert.Contains(t, page, "Ivy Sandell", "the task's bookings")
			w.bookSeats(ferry, crew, inbox)
			w.must("check")
			w.must("stop")
			w.must("start")
			_, page, _ = get(t, "GET", crew, nil)
			assert.Contains(t, page, "Ada Tern", "the booking is still there after a stop")

			w.dir = filepath.Dir(dir)
			w.must("demo", "--remove", dir)
			assert.NoDirExists(t, dir)
			assert.Empty(t, w.book().Stacks)
		})
	}
}

// book books two seats: the crew sees them, the cache counts them, and a mail says so.
func (w *world) bookSeats(ferry, crew, inbox string) {
	t := w.t
	form := url.Values{"sailing": {"3"}, "name": {"Ada Tern"}, "email": {"ada@quay.example"}, "seats": {"2"}}
	code, page, _ := get(t, "POST", ferry, strings.NewReader(form.Encode()), func(r *http.Request) {
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	})
	require.Equal(t, 200, code, page)
	assert.Contains(t, page, "Booked")
	_, page, _ = get(t, "GET", ferry, nil)
	assert.Contains(t, page, ">70<", "two of Grey Heron's 72 seats are gone, as the cache counts")
	_, page, _ = get(t, "GET", crew, nil)
	assert.Contains(t, page, "Ada Tern")

	var list struct {
		Messages []struct {
			ID, Subject string
			To          []string
		}
	}
	w.eventually("the worker sends the mail", func() bool {
		_, text, _ := get(t, "GET", inbox+"messages.json", nil)
		require.NoError(t, json.Unmarshal([]byte(text), &list))
		return len(list.Messages) > 0
	})
	require.Len(t, list.Messages, 1)
	assert.Equal(t, []string{"ada@quay.example"}, list.Messages[0].To)
	assert.Contains(t, list.Messages[0].Subject, "Your crossing at 09:00")
	_, page, _ = get(t, "GET", inbox+"message/"+list.Messages[0].ID, nil)
	assert.Contains(t, page, "Dear Ada Tern")
}

// Dravit writes to no folder and removes no folder that is not the demo's.
func TestDemoLeavesOtherFoldersAlone(t *testing.T) {
	w := newWorld(t)
	w.write("precious.txt", "mine")
	r := w.dravit("demo", w.dir)
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, "not empty")
	r = w.dravit("demo", "--remove", w.dir)
	assert.Equal(t, 2, r.code)
	assert.FileExists(t, filepath.Join(w.dir, "precious.txt"))
	assert.NoFileExists(t, filepath.Join(w.dir, "dravit.toml"))
}

// A report is one complete file, its pictures can be written as SVG, and the times of starts are kept.
func TestReport(t *testing.T) {
	w := newWorld(t)
	r := w.dravit("report")
	assert.Equal(t, 2, r.code, "there is no stack here")
	w.builtin()
	r = w.dravit("report")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "never started")
	w.must("start")
	w.must("restart")
	file := filepath.Join(w.dir, "report.html")
	w.must("report", file)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, want := range []string{"night-boat", "6 of 6 answer", "The last start", "The last starts",
		"part.web.version", "answering"} {
		assert.Contains(t, string(text), want)
	}
	assert.NotContains(t, string(text), "ZgotmplZ")
	var out struct{ File string }
	w.json(&out, "report")
	assert.FileExists(t, out.File)
	picture := filepath.Join(w.dir, "t.svg")
	w.must("report", "--only", "timeline", "--svg", picture)
	svg, err := os.ReadFile(picture)
	require.NoError(t, err)
	assert.Contains(t, string(svg), "seats")
	assert.Equal(t, 2, w.dravit("report", "--only", "weather", "--svg", picture).code)
	assert.Equal(t, 2, w.dravit("report", "--only", "timeline").code)
	assert.Equal(t, 2, w.dravit("report", "/nowhere/at/all.html").code)
	var starts []struct {
		Took  int64 `json:"took_ms"`
		All   bool
		Spans map[string][]struct{ Phase string }
	}
	kept, err := os.ReadFile(w.stackPath("state", "starts.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(kept, &starts))
	require.Len(t, starts, 2)
	assert.True(t, starts[1].All)
	assert.Positive(t, starts[1].Took)
	assert.Equal(t, "answering", starts[1].Spans["seats"][len(starts[1].Spans["seats"])-1].Phase)
}
