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

// probeTime is how long a program may take to answer: a loaded machine takes its time.
var probeTime = 15 * time.Second

const probeBytes = 1 << 20

// run runs a program and returns what it prints, both outputs together. It cannot hang and cannot ask.
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
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // no terminal, and a group of its own to end
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	// a child that keeps the pipe open is not waited for; on a loaded machine our own reading takes a while
	cmd.WaitDelay = time.Second
	err := cmd.Run()
	var exit *exec.ExitError
	switch {
	case errors.Is(err, exec.ErrWaitDelay) && out.Len() == 0: // nothing was read yet
		err = fmt.Errorf("%w: %w", errUnheard, err)
	case errors.Is(err, exec.ErrWaitDelay): // the program itself ended well
		err = nil
	// it could not be started, was killed, or took too long
	case err != nil && (!errors.As(err, &exit) || !exit.Exited()):
		err = fmt.Errorf("%w: %w", errUnheard, err)
	}
	return out.String(), err
}

// errUnheard says that a program was not heard to its end: another time it may answer.
var errUnheard = errors.New("it was not heard")

// limited takes everything and keeps the first n bytes.
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
