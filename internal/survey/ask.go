package survey

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"syscall"
	"time"
)

// probeTime is how long a program may take to answer. It allows for a loaded machine.
var probeTime = 15 * time.Second

const probeBytes = 1 << 20

// run runs a program and returns its two outputs together. The program gets no terminal, and is killed after probeTime.
func (l *looker) run(ctx context.Context, file string, args ...string) (string, error) {
	return ask(ctx, []string{"PATH=" + l.childPath, "HOME=" + l.Home, "LC_ALL=C", "TERM=dumb"}, file, args...)
}

func ask(ctx context.Context, env []string, file string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, probeTime)
	defer cancel()
	var out bytes.Buffer
	cmd := exec.CommandContext(ctx, file, args...)
	cmd.Stdout = &limited{&out, probeBytes}
	cmd.Stderr = cmd.Stdout
	cmd.Env = env
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // no terminal, and a process group that can be killed
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	// do not wait for a child that keeps the pipe open; a loaded machine needs time to read
	cmd.WaitDelay = time.Second
	err := cmd.Run()
	var exit *exec.ExitError
	switch {
	case errors.Is(err, exec.ErrWaitDelay) && out.Len() == 0: // nothing was read
		err = fmt.Errorf("%w: %w", errUnheard, err)
	case errors.Is(err, exec.ErrWaitDelay): // the program itself has exited
		err = nil
	// the program could not be started, was killed, or took too long
	case err != nil && (!errors.As(err, &exit) || !exit.Exited()):
		err = fmt.Errorf("%w: %w", errUnheard, err)
	}
	return out.String(), err
}

// errUnheard says that a program did not finish its answer: it may do so another time.
var errUnheard = errors.New("it did not finish its answer")

// limited is a writer that keeps the first n bytes and discards the rest.
type limited struct {
	w io.Writer
	n int
}

func (l *limited) Write(p []byte) (int, error) {
	keep := min(len(p), l.n)
	l.n -= keep
	if _, err := l.w.Write(p[:keep]); err != nil {
		return 0, err
	}
	return len(p), nil
}
