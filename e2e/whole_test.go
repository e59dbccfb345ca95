package e2e

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// harbour starts a stack that keeps something in every way.
func (w *world) harbour() {
	w.write("dravit.toml", `name = "harbour"
[part.app]
kind = "php"
writable = ["uploads"]
[part.fares]
kind = "mariadb"
main = true
[part.log]
kind = "postgres"
[part.notes]
kind = "sqlite"
[part.seats]
kind = "redis"
main = true
[part.pages]
kind = "dravit-cache"
[part.mail]
kind = "dravit-mail"
[[site]]
name = "harbour"
root = "public"
app = "app"
`)
	w.write("public/index.php", "<?php echo 'Next sailing';")
	w.must("start")
	for _, part := range []string{"fares", "log", "notes"} {
		w.must("db", "query", "--part", part, "CREATE TABLE n (n INTEGER); INSERT INTO n VALUES (0)")
	}
}

// set makes everything that the stack keeps say n.
func (w *world) set(n string) {
	w.t.Helper()
	for _, part := range []string{"fares", "log", "notes"} {
		w.must("db", "query", "--part", part, "UPDATE n SET n = "+n)
	}
	w.must("run", "--", "sh", "-c", `for u in "$SEATS_URL" "$PAGES_URL"; do
		redis-cli --no-auth-warning -u "$u" set n `+n+`; done`)
	w.write("uploads/n", n)
	w.must("run", "--", "python3", "-c", `
import os, smtplib, sys
n = sys.argv[1]
s = smtplib.SMTP(os.environ["MAIL_HOST"], int(os.environ["MAIL_PORT"]))
s.sendmail("office@quay.example", "ada@quay.example", "Subject: " + n + "\r\n\r\n" + n + "\r\n")
`, n)
}

// said returns what each thing says that the stack keeps.
func (w *world) said() []string {
	w.t.Helper()
	var all []string
	for _, part := range []string{"fares", "log", "notes"} {
		r := w.must("db", "query", "--part", part, "--csv", "SELECT n FROM n")
		all = append(all, strings.TrimPrefix(strings.TrimSpace(r.stdout), "n\n"))
	}
	r := w.must("run", "--", "sh", "-c", `redis-cli --no-auth-warning -u "$SEATS_URL" get n`)
	all = append(all, strings.TrimSpace(r.stdout))
	text, err := os.ReadFile(filepath.Join(w.dir, "uploads", "n"))
	require.NoError(w.t, err)
	var out struct{ Mails []struct{ Subject string } }
	w.json(&out, "mail")
	newest := ""
	if len(out.Mails) > 0 {
		newest = out.Mails[0].Subject
	}
	return append(all, string(text), newest)
}

// A mark of the whole stack holds everything at one moment, and a rewind puts everything back, whatever dies.
func TestMarksOfWholeStack(t *testing.T) {
	w := newWorld(t)
	w.harbour()
	w.set("1")
	r := w.must("db", "mark", "one", "--all")
	assert.Contains(t, r.stdout, "holds: fares, log, mail, notes, seats, uploads/")
	one, two := []string{"1", "1", "1", "1", "1", "1"}, []string{"2", "2", "2", "2", "2", "2"}
	w.set("2")
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(w.dir, "uploads", "away")))
	require.Equal(t, two, w.said())
	for range 2 { // again and again
		w.must("db", "rewind", "--all")
		assert.Equal(t, one, w.said())
	}
	assert.NoFileExists(t, filepath.Join(w.dir, "uploads", "away"))
	page := w.must("run", "--", "sh", "-c", `redis-cli --no-auth-warning -u "$PAGES_URL" dbsize`)
	assert.Equal(t, "0\n", page.stdout, "a cache that keeps nothing is empty")
	removeAll(t, filepath.Join(w.dir, "uploads"))
	w.must("db", "mark", "without", "--all")
	w.must("db", "rewind", "one", "--all")
	assert.Equal(t, one, w.said(), "a folder that was deleted comes back")
	w.must("db", "rewind", "without", "--all")
	assert.NoFileExists(t, filepath.Join(w.dir, "uploads", "n"))
	w.set("2")
	w.must("db", "rewind", "one", "--all")
	w.must("db", "rewind", "before-rewind", "--all")
	assert.Equal(t, two, w.said(), "a rewind can be undone, by a mark that it replaces itself")
	w.must("check", "--deep")
	assert.Equal(t, 2, w.dravit("db", "mark", "one", "--all").code, "a mark is not replaced")
	assert.Equal(t, 2, w.dravit("db", "rewind", "nothing", "--all").code)
	assert.Equal(t, 2, w.dravit("db", "mark", "--all", "--part", "log").code)

	w.must("stop")
	w.must("db", "rewind", "one", "--all", "--forget")
	w.must("start")
	assert.Equal(t, one, w.said())
	assert.Contains(t, w.must("db", "marks", "--all").stdout, "before a rewind")

	w.must("db", "query", "--part", "fares", "UPDATE n SET n = 2")
	w.must("db", "mark", "--part", "fares", "alone")
	w.set("2")
	require.NoError(t, os.Chmod(filepath.Join(w.dir, "uploads"), 0o500)) // it cannot be put back
	if r := w.dravit("db", "rewind", "one", "--all"); assert.Equal(t, 1, r.code, r.all()) {
		assert.Contains(t, flat(r.stderr), "dravit start: it finishes the rewind")
	}
	require.NoError(t, os.Chmod(filepath.Join(w.dir, "uploads"), 0o700))
	w.must("start")
	assert.Equal(t, one, w.said(), "it is never left half done")
	assert.Contains(t, w.must("db", "marks", "--all", "--delete", "one").stdout, "before-rewind")
}

func TestKilledRewindsOfWholeStack(t *testing.T) {
	w := newWorld(t)
	w.harbour()
	w.set("1")
	w.must("db", "mark", "one", "--all")
	for round := range 8 {
		w.set("2")
		what := []string{"db", "rewind", "one", "--all"}
		if round%4 == 3 {
			what = []string{"db", "mark", fmt.Sprint("m", round), "--all"}
		}
		cmd := w.command(context.Background(), what...)
		cmd.SysProcAttr.Setpgid = true
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(200+rand.IntN(900)) * time.Millisecond)
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		_ = cmd.Wait()
		if round%3 == 2 {
			for _, pid := range w.living() {
				_ = syscall.Kill(pid, syscall.SIGKILL) // the keeper and the servers
			}
			w.must("start")
		}
		w.eventually("everything is of one moment", func() bool {
			if w.dravit("check").code != 0 {
				return false
			}
			all := w.said()
			for _, one := range all {
				if one != all[0] {
					return false
				}
			}
			return all[0] == "1" || all[0] == "2"
		})
	}
	w.must("db", "rewind", "one", "--all")
	assert.Equal(t, "1", w.said()[0])
	w.must("check", "--deep")
}
