package e2e

import (
	"bufio"
	"bytes"
	"context"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/shell"
)

// What scripts read from a start and a stop.
func TestStartAndStopAsJSON(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("public/index.html", "<h1>Day boat</h1>")
	w.write("dravit.toml", `name = "day-boat"
[part.seats]
kind = "dravit-cache"
[part.web]
kind = "dravit-web"
[[site]]
name = "day"
`)
	var started struct {
		Format  int
		Stack   string
		State   string
		Answers bool
		Began   []string
		TookMS  float64 `json:"took_ms"`
		Parts   []part
		Sites   []struct{ Name, URL string }
	}
	r := w.json(&started, "start")
	assert.Equal(t, 0, r.code)
	assert.Empty(t, r.stderr, "nothing beside the object")
	assert.Equal(t, 1, started.Format)
	assert.Equal(t, "day-boat", started.Stack)
	assert.Equal(t, "answers", started.State)
	assert.True(t, started.Answers)
	assert.ElementsMatch(t, []string{"seats", "web"}, started.Began)
	assert.Positive(t, started.TookMS)
	require.Len(t, started.Parts, 2)
	for _, p := range started.Parts {
		assert.Equal(t, "answers", p.State, p.Name)
		assert.Positive(t, p.PID, p.Name)
	}
	require.Len(t, started.Sites, 1)
	assert.Contains(t, started.Sites[0].URL, "http://day.localhost")
	r = w.json(&started, "start")
	assert.Equal(t, 0, r.code)
	assert.Empty(t, started.Began, "everything ran")

	var stopped struct {
		Format int
		Stack  string
		Ended  []string
	}
	assert.Equal(t, 0, w.json(&stopped, "stop", "seats").code)
	assert.Equal(t, []string{"seats"}, stopped.Ended)
	assert.Equal(t, 0, w.json(&stopped, "stop").code)
	assert.Equal(t, []string{"web"}, stopped.Ended)
	assert.Equal(t, "day-boat", stopped.Stack)
	r = w.json(&stopped, "stop")
	assert.Equal(t, 0, r.code)
	assert.Equal(t, []string{}, stopped.Ended, "a list, also when it is empty")
	var refused struct {
		Error struct{ Code, What string }
	}
	assert.Equal(t, 2, w.json(&refused, "stop", "nobody").code)
	assert.Equal(t, "no-part", refused.Error.Code)
}

// logs --follow shows new lines with the part that wrote them, until Ctrl-C.
func TestLogsAreFollowed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("tides.sh",
		"echo low water; while ! [ -e rise ]; do sleep 0.1; done; printf 'high '; sleep 0.5; echo water\n"+
			"exec python3 -m http.server --bind 127.0.0.1 \"$PORT\" 2>/dev/null\n")
	w.write("dravit.toml", "name = \"tides\"\n[part.gauge]\nkind = \"custom\"\ncommand = \"sh tides.sh\"\n")
	starting := w.command(t.Context(), "start")
	require.NoError(t, starting.Start())
	file := func() string {
		found, _ := filepath.Glob(filepath.Join(w.home, "stacks", "*", "logs", "gauge.log"))
		if len(found) == 0 {
			return ""
		}
		text, _ := os.ReadFile(found[0])
		return string(text)
	}
	w.eventually("the part writes", func() bool { return strings.Contains(file(), "low water") })
	cmd := w.command(t.Context(), "logs", "--follow", "-n", "1")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	lines := bufio.NewScanner(out)
	require.True(t, lines.Scan())
	when := regexp.MustCompile(`^gauge  (\d\d:\d\d:\d\d| {8})  (low|high) water$`) // as the keeper saw it, or not yet
	assert.Regexp(t, when, lines.Text(), "the last line first")
	w.write("rise", "")
	require.True(t, lines.Scan())
	assert.Regexp(t, when, lines.Text(), "whole, though it came in two pieces")
	assert.Contains(t, lines.Text(), "high water")
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	assert.False(t, lines.Scan(), "and no more: %s", lines.Text())
	_ = cmd.Wait()
	assert.Equal(t, 130, cmd.ProcessState.ExitCode())
	require.NoError(t, starting.Wait())
	assert.Equal(t, "answers", w.status().State, "who looks at logs stops nothing")
}

// question is how a question of dravit's ends.
var question = regexp.MustCompile(`(\[[^\]\n]+\]|\):) $`)

// atTerminal runs dravit at a terminal, types answer whenever it asks, and returns what the terminal showed.
func (w *world) atTerminal(answer string, args ...string) (shown string, code int) {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	inner := w.command(ctx, args...)
	cmd := exec.CommandContext(ctx, "/usr/bin/script", "--quiet", "--return", "--command",
		shell.Join(inner.Args...), "/dev/null")
	cmd.Dir, cmd.Env, cmd.SysProcAttr = inner.Dir, append(inner.Env, "TERM=xterm"), inner.SysProcAttr
	in, err := cmd.StdinPipe()
	require.NoError(w.t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(w.t, err)
	require.NoError(w.t, cmd.Start())
	var all bytes.Buffer
	buffer := make([]byte, 4096)
	for asked := false; ; {
		n, err := out.Read(buffer)
		all.Write(buffer[:n])
		if !asked && strings.Contains(all.String(), "> ") || n > 0 && question.MatchString(all.String()) {
			asked = true
			_, _ = io.WriteString(in, answer+"\n")
		}
		if err != nil {
			break
		}
	}
	_ = cmd.Wait()
	in.Close()
	return all.String(), cmd.ProcessState.ExitCode()
}

// At a terminal, start asks once for consent, and remembers the answer. No answer is no consent.
func TestConsentAtATerminal(t *testing.T) {
	file := "name = \"pier\"\n[[site]]\nname = \"pier\"\nlisten = \"network\"\n"
	for _, c := range []struct {
		answer string
		open   bool
	}{{"y", true}, {"YES", true}, {"n", false}, {"", false}, {"perhaps", false}} {
		t.Run("answer "+c.answer, func(t *testing.T) {
			w := newWorld(t)
			w.write("public/index.html", "<h1>Pier</h1>")
			w.write("dravit.toml", file)
			shown, code := w.atTerminal(c.answer, "start")
			assert.Equal(t, 0, code, shown)
			assert.Contains(t, shown, "The site pier asks to be reachable from your network.")
			assert.Contains(t, shown, "Allow it? [y/N]")
			var s struct{ Reachable []reach }
			w.json(&s, "status")
			if c.open {
				require.Len(t, s.Reachable, 1)
				assert.True(t, s.Reachable[0].Agreed && s.Reachable[0].Open)
			} else {
				assert.Empty(t, s.Reachable)
			}
			shown, code = w.atTerminal("y", "start")
			assert.Equal(t, 0, code, shown)
			assert.NotContains(t, shown, "Allow it?", "it was answered")
		})
	}
}

// Ctrl-C at a question ends the command, and nothing was done.
func TestInterruptedQuestion(t *testing.T) {
	w := newWorld(t)
	w.write("public/index.html", "<h1>Pier</h1>")
	w.write("dravit.toml", "name = \"pier\"\n[[site]]\nname = \"pier\"\nlisten = \"network\"\n")
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	inner := w.command(ctx, "start")
	cmd := exec.CommandContext(ctx, "/usr/bin/script", "--quiet", "--return", "--command",
		shell.Join(inner.Args...), "/dev/null")
	cmd.Dir, cmd.Env, cmd.SysProcAttr = inner.Dir, append(inner.Env, "TERM=xterm"), inner.SysProcAttr
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	var all bytes.Buffer
	for buffer := make([]byte, 4096); !strings.Contains(all.String(), "[y/N] "); {
		n, err := out.Read(buffer)
		require.NoError(t, err, all.String())
		all.Write(buffer[:n])
	}
	_, err = in.Write([]byte{3}) // Ctrl-C, which the terminal turns into SIGINT
	require.NoError(t, err)
	_, _ = io.Copy(&all, out)
	_ = cmd.Wait()
	code := cmd.ProcessState.ExitCode()
	assert.Contains(t, []int{130, 128 + int(syscall.SIGINT)}, code, all.String())
	assert.Empty(t, w.living())
	assert.NotEqual(t, "answers", w.status().State)
}
