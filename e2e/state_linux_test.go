package e2e

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/lifecycle"
)

type siteState struct{ Name, State, Because string }

type wholeStatus struct {
	State string
	Parts []struct {
		Name, State, Because string
		LastExit             *lifecycle.Exit `json:"last_exit"`
	}
	Sites []siteState
}

func (w *world) whole() wholeStatus {
	w.t.Helper()
	var s wholeStatus
	w.json(&s, "status")
	return s
}

func (s wholeStatus) site(t *testing.T, name string) siteState {
	t.Helper()
	for _, x := range s.Sites {
		if x.Name == name {
			return x
		}
	}
	require.Fail(t, "no site "+name)
	return siteState{}
}

// The keeper keeps each site's state up to date: when its page fails, when a part behind it is stopped, and when both
// are fixed.
func TestStatusKnowsSites(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"day-boat\"\n"+maria+phpSite+"expect = { text = \"Day boat\" }\n")
	w.write("public/index.php", hello)
	w.must("start")
	s := w.whole()
	assert.Equal(t, "answers", s.State)
	assert.Equal(t, "answers", s.site(t, "day").State)

	w.write("public/index.php", "<h1>Low tide</h1>")
	w.eventually("the site is unwell", func() bool { return w.whole().site(t, "day").State == "unwell" })
	s = w.whole()
	assert.Equal(t, "unwell", s.State, "a stack is as its worst part or site is")
	assert.Contains(t, s.site(t, "day").Because, "Low tide")
	r := w.dravit("status")
	assert.Contains(t, r.stdout, "Low tide")
	r = w.dravit("start")
	assert.Equal(t, 1, r.code)

	w.write("public/index.php", hello)
	w.eventually("the site answers again", func() bool { return w.whole().State == "answers" })

	w.must("stop", "db")
	w.eventually("what needs the database waits for it", func() bool {
		return w.whole().site(t, "day") == siteState{"day", "waiting", "because db is stopped"}
	})
	r = w.dravit("check")
	assert.Equal(t, 1, r.code)
	assert.Equal(
		t,
		2,
		strings.Count(r.stdout, "because db does not answer"),
		"the runtime's and the site's rungs: %s",
		r.stdout,
	)
	w.must("start")
	w.eventually("all is well", func() bool { return w.whole().State == "answers" })
	assert.Contains(t, w.must("diagnose").stdout, "nothing is wrong", "right after a repair nothing is left")
}

// A requirement that the web process does not meet shows in the status, too.
func TestStatusKnowsRequirements(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"day-boat\"\n"+phpSite+"[part.app.requires]\nwritable = [\"cache\"]\n")
	w.write("public/index.php", hello)
	r := w.dravit("start")
	assert.Equal(t, 1, r.code, r.all())
	s := w.whole()
	assert.Equal(t, "unwell", s.State)
	assert.Contains(t, s.Parts[0].Because+s.Parts[1].Because, "writable cache")
	require.NoError(t, os.Mkdir(filepath.Join(w.dir, "cache"), 0o755))
	w.own(w.dir)
	w.must("start")
	w.eventually("the requirement is met", func() bool { return w.whole().State == "answers" })
}

// How a process ended is kept after its restart, and the log says when it was started and how it ended.
func TestExitsAreKept(t *testing.T) {
	w := newWorld(t)
	w.write("app.py", `import http.server, os, sys
class Page(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        if self.path == "/sink":
            print("the boat sank", file=sys.stderr, flush=True); os._exit(41)
        self.send_response(200); self.end_headers(); self.wfile.write(b"Day boat")
http.server.HTTPServer(("127.0.0.1", int(os.environ["PORT"])), Page).serve_forever()
`)
	w.write("dravit.toml", "name = \"day-boat\"\n[part.app]\nkind = \"python\"\ncommand = \"exec python3 app.py\"\n")
	w.must("start")
	port := w.status().part(t, "app").Port
	assert.Nil(t, w.whole().Parts[0].LastExit)
	pageAt(port)
	conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	_, _ = conn.Write([]byte("GET /sink HTTP/1.0\r\n\r\n"))
	conn.Close()
	w.eventually("it was restarted", func() bool {
		p := w.status().part(t, "app")
		return p.Restarts == 1 && p.State == "answers"
	})
	exit := w.whole().Parts[0].LastExit
	require.NotNil(t, exit)
	assert.Equal(t, "it exited with code 41", exit.How)
	assert.Contains(t, strings.Join(exit.Tail, "\n"), "the boat sank")
	assert.WithinDuration(t, time.Now(), exit.At, time.Minute)
	assert.Contains(t, w.dravit("status").stdout, "it exited with code 41")
	logs := w.must("logs", "app").stdout
	assert.Equal(t, 2, strings.Count(logs, "part app is started"))
	assert.Regexp(t, `dravit: \d{4}-\d\d-\d\dT\S+ it exited with code 41 after \d`, logs)
}

// Old failures in a log are no evidence: when the tables exist again, the wrong password is the only cause.
func TestOldLinesAreNoEvidence(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"day-boat\"\n"+maria+phpSite)
	page := func(password string) {
		w.write(
			"public/index.php",
			`<?php $db = new mysqli(getenv("DB_HOST"), getenv("DB_USER"), `+
				password+`, getenv("DB_DATABASE"), (int)getenv("DB_PORT"));
foreach ($db->query("SELECT name FROM boats") as $boat) echo $boat["name"];`,
		)
	}
	page(`getenv("DB_PASSWORD")`)
	w.dravit("start")
	first := func() string {
		d := w.diagnose()
		require.NotEmpty(t, d.Causes)
		return string(d.Causes[0].Cause)
	}
	assert.Equal(t, "tables-missing", first())
	w.must("run", "--", "mariadb", "-e", "CREATE TABLE boats (name TEXT)")
	page(`"low tide"`)
	d := w.diagnose()
	require.Len(t, d.Causes, 1, "%+v", d.Causes)
	assert.EqualValues(t, "wrong-password", d.Causes[0].Cause)
	page(`getenv("DB_PASSWORD")`)
	assert.True(t, w.diagnose().Answers)
	assert.Empty(t, w.diagnose().Causes)
}

// A start gives up within seconds on a server that listens on another port, and says what diagnose would.
func TestStartGivesUpOnServerElsewhere(t *testing.T) {
	w := newWorld(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	w.write("server.py", serverPy)
	w.write("pids", "")
	w.write(
		"dravit.toml",
		fmt.Sprintf(
			"name = \"harbour\"\n[part.app]\nkind = \"custom\"\ncommand = \"PORT=%d exec python3 server.py\"\n",
			port,
		),
	)
	began := time.Now()
	r := w.dravit("start")
	assert.Equal(t, 1, r.code, r.all())
	assert.Less(t, time.Since(began), 40*time.Second, "it waits a minute for a server that may still come")
	assert.Contains(t, r.stderr, "listens on another port than its own")
	assert.Contains(t, r.stderr, fmt.Sprint(port))
}
