package keeper

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"dravit/internal/home"
	"dravit/internal/lifecycle"
	"dravit/internal/members"
	"dravit/internal/proc"
	"dravit/internal/trouble"
)

// Client talks to the keeper of a home folder. It sends one request over each connection.
type Client struct{ home *home.Home }

// Connect returns a client of the keeper. It does not connect yet, and the keeper need not run.
func Connect(h *home.Home) *Client { return &Client{h} }

// send sends one request and returns the answer. If rest is not nil, the request goes on with it while the answer is
// read. Closing the answer's body closes the connection, as does the end of the context. http.Client would do the same
// with two more goroutines and half a millisecond; a whole status takes three.
func (c *Client) send(ctx context.Context, method, path string, in any, rest io.Reader) (*http.Response, error) {
	text, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	var content io.Reader = bytes.NewReader(text)
	if rest != nil {
		content = io.MultiReader(content, rest)
	}
	req, err := http.NewRequestWithContext(ctx, method, "http://keeper"+path, content)
	if err != nil {
		return nil, err
	}
	req.Close = true
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", filepath.Join(c.home.Run, socketName))
	if err != nil {
		return nil, left(err)
	}
	if err := home.CheckPeer(conn); err != nil {
		conn.Close()
		return nil, err
	}
	_ = conn.SetDeadline(time.Now().Add(answerTime(path)))
	release := context.AfterFunc(ctx, func() { conn.Close() })
	if rest == nil {
		err = req.Write(conn)
	} else {
		go func() { _ = req.Write(conn) }() // the answer shows whether it came
	}
	var resp *http.Response
	if err == nil {
		resp, err = http.ReadResponse(bufio.NewReader(conn), req)
	}
	if err != nil {
		release()
		conn.Close()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if errors.Is(err, os.ErrDeadlineExceeded) {
			return nil, silent(c.home)
		}
		return nil, left(err) // if the keeper took the request, it did nothing about it
	}
	_ = conn.SetWriteDeadline(time.Time{})
	resp.Body = &body{patient{resp.Body, conn}, func() { release(); conn.Close() }}
	if resp.StatusCode != http.StatusOK {
		defer resp.Body.Close()
		refusal := &trouble.Trouble{}
		if err := json.NewDecoder(io.LimitReader(resp.Body, maxRefusal)).Decode(refusal); err != nil {
			return nil, fmt.Errorf("the keeper says %s, and nothing else: %w", resp.Status, err)
		}
		return nil, refusal
	}
	return resp, nil
}

const (
	quickAnswer = 5 * time.Second // the answer to a question about what the keeper knows
	slowAnswer  = time.Minute     // the answer to a stop, which waits for every part
	heartbeat   = time.Second     // the time between two lines of the answer to a start
	silence     = 20 * heartbeat  // without a line for this long, the keeper counts as hung
)

// answerTime is how long the keeper may take until its answer begins.
func answerTime(path string) time.Duration {
	if strings.HasSuffix(path, "/stop") {
		return slowAnswer
	}
	return quickAnswer
}

// patient is a connection on which each piece of the keeper's answer has its own deadline.
type patient struct {
	io.Reader
	conn net.Conn
}

func (p patient) Read(b []byte) (int, error) {
	_ = p.conn.SetReadDeadline(time.Now().Add(silence))
	return p.Reader.Read(b)
}

// maxRefusal bounds the answer of a keeper that refuses, in bytes.
const maxRefusal = 64 << 10

// silent returns the error for a keeper that hangs. Its parts keep running without it.
func silent(h *home.Home) error {
	t := &trouble.Trouble{
		Code:    trouble.KeeperSilent,
		What:    "Dravit's keeper does not answer",
		Because: "its process hangs, or another process stopped it",
		Next:    "dravit ports and ps tell which process it is",
	}
	if pid := members.Leader(h.Path(home.KeeperLock)).PID; pid != 0 {
		t.Because = fmt.Sprintf("its process (pid %d) hangs, or another process stopped it", pid)
		t.Next = fmt.Sprintf(
			"kill -CONT %d; if that does not help, kill -9 %d: its parts keep running, and the next "+
				"command takes them over",
			pid, pid,
		)
	}
	return t
}

// left reports whether no keeper accepted the request: none runs, or it was about to exit. Ensure starts another.
func left(err error) error {
	return &trouble.Trouble{
		Code:    trouble.KeeperGone,
		What:    "no keeper accepted the request",
		Because: err.Error(),
		Err:     err,
	}
}

type body struct {
	io.Reader
	end func()
}

func (b *body) Close() error {
	b.end()
	return nil
}

// Running reports whether a keeper holds the lock of the home folder.
func Running(h *home.Home) bool { return home.Locked(h.Path(home.KeeperLock)) }

// Ensure starts the keeper if none runs, from the program self of the given build. It replaces a keeper of another
// build; the parts keep running under the new one.
func (c *Client) Ensure(ctx context.Context, self, build string) error {
	hello, err := c.Hello(ctx)
	if err == nil && hello.Build == build || errors.Is(err, trouble.KeeperSilent) {
		return err
	}
	if err == nil {
		if err := c.do(ctx, http.MethodPost, "/v1/leave", nil, nil); err != nil {
			return err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	var child <-chan error
	for tries := 0; ; tries++ {
		wait := 500 * time.Microsecond
		if tries > 50 { // wait: a keeper may have reasons to take long
			wait = 20 * time.Millisecond
		}
		if child == nil && !Running(c.home) {
			if child, err = spawn(c.home, self); err != nil {
				return err
			}
		}
		if hello, err := c.Hello(ctx); err == nil && hello.Build == build {
			return nil
		} else if err == nil && tries > 50 { // another command started a keeper of another build
			return c.Ensure(ctx, self, build)
		}
		select {
		case err := <-child:
			// Another command started a keeper first, or this one cannot run.
			if child = nil; err != nil && !Running(c.home) {
				return fmt.Errorf("the keeper does not start: %w%s", err, lastWords(c.home))
			}
		case <-ctx.Done():
			return fmt.Errorf("the keeper does not answer: %w%s", ctx.Err(), lastWords(c.home))
		case <-time.After(wait):
		}
	}
}

// logFile is the file to which the keeper writes its log.
func logFile(h *home.Home) string { return h.Path("keeper.log") }

func lastWords(h *home.Home) string {
	text, _ := os.ReadFile(logFile(h))
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	if last := lines[len(lines)-1]; last != "" {
		return ": " + last
	}
	return ""
}

// spawn starts a keeper that outlives this command. The channel gets the keeper's end, if it ends while the caller
// still listens.
func spawn(h *home.Home, self string) (<-chan error, error) {
	if info, err := os.Stat(logFile(h)); err == nil && info.Size() > maxLog {
		_ = os.Rename(logFile(h), logFile(h)+".1")
	}
	log, err := os.OpenFile(logFile(h), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd := exec.Command(self, "internal", "keeper")
	cmd.Dir = "/"
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	// Hand the path of the home folder down. Nothing else of this terminal's environment matters to the keeper.
	cmd.Env = []string{"DRAVIT_HOME=" + h.Dir, "PATH=/usr/local/bin:/usr/bin:/bin", "HOME=" + os.Getenv("HOME")}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	return ended, nil
}

// Hello asks the keeper who it is.
func (c *Client) Hello(ctx context.Context) (Hello, error) {
	var h Hello
	return h, c.do(ctx, http.MethodGet, "/v1/hello", nil, &h)
}

// Nothing tells the keeper that there is nothing to start after all. A keeper without stacks then exits.
func (c *Client) Nothing(ctx context.Context) error {
	return c.do(ctx, http.MethodPost, "/v1/nothing", nil, nil)
}

// View returns the keeper's view of a stack.
func (c *Client) View(ctx context.Context, id string) (View, error) {
	var s View
	return s, c.do(ctx, http.MethodGet, "/v1/stacks/"+id, nil, &s)
}

// Stop stops the named parts of a stack, or all if none is named. If the keeper has nothing left to do, Stop waits
// until it is gone.
func (c *Client) Stop(ctx context.Context, id string, parts []string) ([]lifecycle.Status, error) {
	hello, err := c.Hello(ctx)
	if err != nil {
		return nil, err
	}
	who, _ := proc.Identify(hello.PID)
	var last []lifecycle.Status
	if err := c.do(ctx, http.MethodPost, "/v1/stacks/"+id+"/stop", request{Parts: parts}, &last); err != nil {
		return nil, err
	}
	if AnyShouldRun(c.home) {
		return last, nil
	}
	for range 1000 {
		if !who.Alive() {
			break
		}
		if err := proc.Sleep(ctx, 2*time.Millisecond); err != nil {
			return last, err
		}
	}
	return last, nil
}

// Start brings a stack to what its Spec says, and reports the changes on the way. When the context ends, the keeper
// stops what this start has started.
func (c *Client) Start(ctx context.Context, id string, restart []string,
	timeout time.Duration, report func(Event)) error {
	return c.start(ctx, id, request{Parts: restart, Timeout: timeout}, report)
}

// StartFirst is Start for the parts in first alone, which must not be nil. It stops parts that the Spec no longer has
// or has changed.
func (c *Client) StartFirst(ctx context.Context, id string, first, restart []string,
	timeout time.Duration, report func(Event)) error {
	return c.start(ctx, id, request{Parts: restart, Timeout: timeout, First: first}, report)
}

// Rest stops the named parts, calls do, and starts them again; the others are left alone. The parts are at rest as long
// as the connection to the keeper is open and do has not returned: they come back also if the caller dies. If the
// keeper dies, another one may start them while do still works, unless a lock keeps it from that (data.Hold). enough
// ends the waiting for the parts.
func (c *Client) Rest(ctx context.Context, id string, parts []string, timeout time.Duration, do func() error,
	enough func(Event) bool) error {
	over, end := io.Pipe()
	defer over.Close()
	defer end.Close()
	what := request{Parts: parts, Timeout: timeout, Only: true, Rest: true}
	resp, err := c.send(ctx, http.MethodPost, "/v1/stacks/"+id+"/start", what, over)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	var failed error
	done := false
	err = c.follow(ctx, resp.Body, func(e Event) bool {
		switch {
		case e.AtRest:
			failed, done = do(), true
			end.Close()
			return false
		case e.Trouble != nil:
			failed = e.Trouble
		}
		return enough(e)
	})
	if err == nil && failed == nil && !done {
		return left(errors.New("it is of another build, and knows no rest"))
	}
	return errors.Join(failed, err)
}

func (c *Client) start(ctx context.Context, id string, what request, report func(Event)) error {
	resp, err := c.send(ctx, http.MethodPost, "/v1/stacks/"+id+"/start", what, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return c.follow(ctx, resp.Body, func(e Event) bool { report(e); return false })
}

// follow reads the answer to a start until its end, or until enough returns true.
func (c *Client) follow(ctx context.Context, answer io.Reader, enough func(Event) bool) error {
	in := json.NewDecoder(answer)
	for {
		var e Event
		if err := in.Decode(&e); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if errors.Is(err, os.ErrDeadlineExceeded) {
				return silent(c.home)
			}
			return fmt.Errorf("the keeper's answer broke off: %w", err)
		}
		if enough(e) || e.Done {
			return nil
		}
	}
}

func (c *Client) do(ctx context.Context, method, path string, in, out any) error {
	resp, err := c.send(ctx, method, path, in, nil)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		return nil
	}
	return json.NewDecoder(resp.Body).Decode(out)
}
