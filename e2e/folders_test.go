package e2e

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// site returns a site's address, or "" if the stack has no such site.
func (s status) site(name string) string {
	for _, x := range s.Sites {
		if x.Name == name {
			return x.URL
		}
	}
	return ""
}

// soon waits a little more than a second for something that must happen within a second.
func soon(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for deadline := time.Now().Add(5 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if holds() {
			return
		}
	}
	require.Fail(t, "not soon enough: "+what)
}

const folderPage = "<?php echo basename(dirname(__DIR__)), ' ', basename(__DIR__), ' ', $_SERVER['HTTP_HOST'];"

// folders writes a project with a site for each folder of crew, and folders that cannot be one.
func (w *world) folders(server string) {
	w.write("dravit.toml", fmt.Sprintf(`name = "folders"
[part.web]
kind = %q
[part.app]
kind = "php"
[part.api]
kind = "node"
command = "exec node api.js"
[[site]]
name = "ferry"
aliases = ["quay"]
root = "."
expect = { path = "/about.txt" }
[[site]]
name = "api"
app = "api"
[[site]]
each = "crew/*"
app = "app"
`, server))
	w.write("about.txt", "about")
	w.write("api.js", api)
	w.write("crew/ada/public/index.php", folderPage)
	w.write("crew/Ferry/index.php", folderPage)   // a site of the stack has that name
	w.write("crew/quay/index.php", folderPage)    // and an alias this
	w.write("crew/deck_7/index.php", folderPage)  // no host name
	w.write("crew/.hidden/index.php", folderPage) // hidden
	w.write("crew/rota.txt", "no folder")         // no folder
	w.write("crew/empty/notes.txt", "later")      // no index yet
}

// A new folder becomes a site, a deleted one takes its site away, and a folder with a name that is taken is skipped
// with a note. Nothing is restarted, and an open WebSocket stays open.
func TestFoldersAreSites(t *testing.T) {
	for _, server := range []string{"nginx", "dravit-web", "apache"} {
		t.Run(server, func(t *testing.T) {
			w := newWorld(t)
			w.folders(server)
			w.must("start")
			s := w.status()
			pids := s.pids()
			names := func() (all []string) {
				for _, x := range w.status().Sites {
					all = append(all, x.Name)
				}
				return all
			}
			assert.Equal(t, []string{"ferry", "api", "ada"}, names())
			for _, text := range []string{w.must("plan").stdout, w.must("status").stdout} {
				text = strings.Join(strings.Fields(text), " ")
				assert.Contains(t, text, "crew/Ferry: ferry.localhost is the site ferry of this stack")
				assert.Contains(t, text, "crew/quay: quay.localhost is the site ferry of this stack")
				assert.Contains(t, text, `crew/deck_7: "deck_7" cannot be a host name`)
				assert.Contains(t, text, "crew/empty: it has no index.php or index.html yet")
			}
			ask := func(name string) string {
				_, body, _ := get(t, "GET", strings.Replace(s.site("ada"), "ada", name, 1), nil)
				return body
			}
			assert.Equal(t, "ada public "+strings.TrimSuffix(strings.TrimPrefix(s.site("ada"), "http://"), "/"),
				ask("ada"))

			// Open connections stay open.
			line := openSocket(t, s.site("api"))
			line.say("tide")

			w.write("crew/bob/index.php", folderPage)
			w.write("crew/bob/style.css", "body {}")
			soon(t, "the new folder is a site", func() bool { return strings.HasPrefix(ask("bob"), "crew bob") })
			w.write("crew/empty/web/index.php", folderPage)
			soon(t, "the folder with a new index is a site", func() bool {
				return strings.HasPrefix(ask("empty"), "empty web")
			})
			w.write("crew/bob/public/index.php", folderPage)
			soon(t, "its root follows its index", func() bool { return strings.HasPrefix(ask("bob"), "bob public") })
			w.must("check")
			assert.Equal(t, []string{"ferry", "api", "ada", "bob", "empty"}, names())
			assert.Contains(t, w.must("names").stdout, "bob.localhost")
			require.NoError(t, os.Rename(filepath.Join(w.dir, "crew/bob"), filepath.Join(w.dir, "crew/eve")))
			soon(t, "the folder has another name", func() bool { return strings.HasPrefix(ask("eve"), "eve public") })
			soon(t, "and not the old one", func() bool { return strings.Contains(ask("bob"), "No site is named") })
			line.say("quay")
			assert.Equal(t, pids, w.status().pids(), "nothing was restarted")

			// A new keeper and a new start see the same.
			kill(t, w.keeperPID())
			w.write("crew/ivy/index.php", folderPage)
			w.must("status")
			soon(t, "a new keeper looks, too", func() bool { return strings.HasPrefix(ask("ivy"), "crew ivy") })
			w.must("start")
			assert.Equal(t, pids, w.status().pids(), "nothing was restarted by a start, either")
			line.say("harbour")
			line.conn.Close()
			// A new folder does not start a part that was stopped.
			w.must("stop", "api")
			w.write("crew/kit/index.php", folderPage)
			soon(t, "a site comes", func() bool { return strings.HasPrefix(ask("kit"), "crew kit") })
			assert.Equal(t, "stopped", w.status().part(t, "api").State)
		})
	}
}

// socket is a WebSocket, as far as these tests need one.
type socket struct {
	t    *testing.T
	conn net.Conn
	in   *bufio.Reader
}

// openSocket opens an upgraded connection to a site that echoes.
func openSocket(t *testing.T, url string) *socket {
	t.Helper()
	host := strings.TrimSuffix(strings.TrimPrefix(url, "http://"), "/")
	_, port, err := net.SplitHostPort(host)
	require.NoError(t, err)
	conn, err := net.Dial("tcp", "127.0.0.1:"+port)
	require.NoError(t, err)
	require.NoError(t, conn.SetDeadline(time.Now().Add(time.Minute)))
	_, err = fmt.Fprintf(conn, "GET /socket HTTP/1.1\r\nHost: %s\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n"+
		"Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n", host)
	require.NoError(t, err)
	s := &socket{t, conn, bufio.NewReader(conn)}
	resp, err := http.ReadResponse(s.in, nil)
	require.NoError(t, err)
	require.Equal(t, 101, resp.StatusCode)
	return s
}

// say sends a word and expects it back.
func (s *socket) say(word string) {
	s.t.Helper()
	_, err := io.WriteString(s.conn, word)
	require.NoError(s.t, err)
	got := make([]byte, len("echo ")+len(word))
	_, err = io.ReadFull(s.in, got)
	require.NoError(s.t, err)
	require.Equal(s.t, "echo "+word, string(got))
}

// Dravit tests directives of the project before it uses them: it names a bad file with its line, and the server keeps
// its configuration.
func TestIncludedDirectives(t *testing.T) {
	for server, text := range map[string][2]string{
		"nginx":  {"location = /tide { return 200 \"high\"; }\n", "location = /tide { return 200 \"low\"; }\n"},
		"apache": {"RewriteRule ^/tide$ /high.txt\n", "RewriteRule ^/tide$ /low.txt\n"},
	} {
		t.Run(server, func(t *testing.T) {
			w := newWorld(t)
			w.dir += " [*]"
			require.NoError(t, os.Mkdir(w.dir, 0o755))
			w.own(w.dir)
			w.write("dravit.toml", fmt.Sprintf("name = \"own\"\n[part.web]\nkind = %q\n[[site]]\nname = \"ferry\"\n"+
				"root = \"public\"\ninclude = \"conf/site.conf\"\n", server))
			w.write("public/index.html", "ferry")
			w.write("public/high.txt", "high")
			w.write("public/low.txt", "low")
			r := w.dravit("plan")
			assert.Equal(t, 3, r.code)
			assert.Contains(t, r.stderr, "conf/site.conf")
			w.write("conf/site.conf", text[0])
			w.must("start")
			pid := w.status().part(t, "web").PID
			url := w.status().site("ferry")
			ask := func() string {
				_, body, _ := get(t, "GET", url+"tide", nil)
				return body
			}
			assert.Equal(t, "high", ask())
			w.write("conf/site.conf", text[1])
			w.must("start")
			soon(t, "the new directives hold", func() bool { return ask() == "low" })
			w.write("conf/site.conf", text[1]+"NoSuchDirective on;\n")
			r = w.dravit("start")
			assert.Equal(t, 1, r.code)
			said := strings.Join(strings.Fields(r.stderr), " ")
			assert.Contains(t, said, "NoSuchDirective")
			assert.Contains(t, said, map[string]string{"nginx": "conf/site.conf:2", "apache": "line 2 of"}[server])
			assert.Contains(t, said, "conf/site.conf")
			assert.Contains(t, said, "keeps its previous configuration")
			assert.Equal(t, "low", ask())
			assert.Equal(t, "unwell", w.status().part(t, "web").State)
			w.write("conf/site.conf", text[0])
			w.must("start")
			soon(t, "mended", func() bool { return ask() == "high" })
			assert.Equal(t, pid, w.status().part(t, "web").PID, "nothing was restarted")
		})
	}
	w := newWorld(t)
	w.write("dravit.toml", "name = \"own\"\n[[site]]\nname = \"ferry\"\nroot = \".\"\ninclude = \"site.conf\"\n")
	w.write("site.conf", "x")
	r := w.dravit("plan")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.stderr, "dravit-web has no directives")
}
