package task

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"dravit/internal/home"
	"dravit/internal/logfile"
	"dravit/internal/members"
	"dravit/internal/pattern"
	"dravit/internal/shell"
)

// grace is how long a task's processes may take to exit after they were asked to.
const grace = 2 * time.Second

// tailLines is how many lines of its log explain a task's failure.
const tailLines = 10

// searched is how many lines at the end of its log are searched for what explains a failure.
const searched = 400

// failures match lines in which tools say why they failed.
var failures = pattern.New(`(?i)\berr(or)?\b|\berr!|\bfatal\b|exception|\bfailed\b|could not|cannot |can't |` +
	`not found|no such|denied|refused|^\s*problem \d|conflict|unable to|traceback|is required|requires `)

// telling returns the lines of a log that tell why a command failed: those that say so, the first and the last of them,
// or else the last ones. An installer writes its reasons first, and much after them.
func telling(lines []string) []string {
	var found []string
	for _, l := range lines {
		if failures().MatchString(l) {
			found = append(found, l)
		}
	}
	switch {
	case len(found) == 0:
		return lines[max(0, len(lines)-tailLines):]
	case len(found) <= tailLines:
		return found
	}
	first := tailLines * 2 / 3
	return append(slices.Clone(found[:first]), found[len(found)-(tailLines-first):]...)
}

// LogFile returns the path of the log of the task's last run.
func (t Task) LogFile() string { return filepath.Join(t.Keep, t.Name+".log") }

func (t Task) lockFile() string { return filepath.Join(t.Keep, t.Name+".lock") }

// Run runs the task and returns its record. It first stops what an earlier run left behind. line, if not nil, is called
// for each line of output. When ctx ends, and when the task takes too long, Run stops every process of the task. The
// error is an *Error if the task failed.
func (t Task) Run(ctx context.Context, line func(text string)) (Record, error) {
	r := Record{At: time.Now(), Code: -1, How: "it was interrupted", Data: t.Data}
	var err error
	if r.Files, err = t.Digest(); err != nil {
		return r, err
	}
	r.Depends = t.Depends()
	if err := os.MkdirAll(t.Keep, 0o700); err != nil {
		return r, err
	}
	if err := members.End(ctx, t.lockFile(), nil, grace); err != nil {
		return r, err
	}
	lock, err := home.TryLock(t.lockFile())
	if err != nil {
		return r, err
	}
	defer lock.Close()
	log, err := newLog(t.LogFile())
	if err != nil {
		return r, err
	}
	defer log.Close()
	limited, cancel := context.WithTimeout(ctx, t.MayTake())
	defer cancel()
	err = t.command(limited, lock, log, line)
	r.TookMS = time.Since(r.At).Milliseconds()
	var exit *exec.ExitError
	switch {
	case err == nil:
		r.Code, r.How = 0, ""
		return r, nil
	case ctx.Err() != nil:
	case limited.Err() != nil:
		r.How = "it took longer than " + t.MayTake().String()
	case errors.As(err, &exit):
		r.Code, r.How = exit.ExitCode(), fmt.Sprintf("it exited with code %d", exit.ExitCode())
	default:
		return r, err
	}
	tail, _, _ := logfile.Tail(t.LogFile(), searched) // without a log there is no tail
	return r, &Error{Task: t.Name, Record: r, Tail: telling(tail)}
}

// command runs the task's command to its end. The command has no terminal. A supervisor stops what the command leaves
// behind, and everything if this process dies: then the pipe that ties it to this process closes.
func (t Task) command(ctx context.Context, lock *os.File, log io.Writer, line func(string)) error {
	out, write, err := os.Pipe()
	if err != nil {
		return err
	}
	defer out.Close()
	tied, tie, err := os.Pipe()
	if err != nil {
		write.Close()
		return err
	}
	defer tie.Close()
	text := strings.ReplaceAll(t.Command, "{dravit}", shell.Quote(t.Self))
	cmd := exec.Command(t.Self, "internal", "supervise", "--tied", t.lockFile(), "--", "/bin/sh", "-c", text)
	cmd.Dir = filepath.Join(t.Project, t.Folder)
	cmd.Env = append(t.Env, members.Mark+"="+t.lockFile())
	cmd.Stdout, cmd.Stderr = write, write
	cmd.ExtraFiles = []*os.File{lock, tied} // descriptors supervise.LockFD and supervise.TieFD
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	err = cmd.Start()
	write.Close()
	tied.Close()
	lock.Close() // from here on, the lock shows whether a process of the task is alive
	if err != nil {
		return err
	}
	read := make(chan error, 1)
	go func() { read <- copyLines(out, log, line) }()
	stopped := make(chan error, 1)
	done := make(chan struct{})
	go func() {
		select {
		case <-ctx.Done():
			stopped <- members.End(context.WithoutCancel(ctx), t.lockFile(), nil, grace)
		case <-done:
			stopped <- nil
		}
	}()
	err = cmd.Wait()
	close(done)
	if stopErr := <-stopped; stopErr != nil {
		return errors.Join(err, stopErr)
	}
	if readErr := <-read; err == nil {
		err = readErr
	}
	return err
}

// maxLine is the longest piece of a line that is passed on at once, in bytes.
const maxLine = 64 << 10

// copyLines copies a command's output to its log, and calls line for each line of it.
func copyLines(from io.Reader, to io.Writer, line func(string)) error {
	in := bufio.NewReaderSize(from, maxLine)
	for {
		text, err := in.ReadSlice('\n')
		if len(text) > 0 {
			if _, err := to.Write(text); err != nil {
				return err
			}
			if line != nil {
				line(strings.TrimRight(string(text), "\r\n"))
			}
		}
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
	}
}

// maxLog is how long a task's log may become, in bytes, before its beginning is moved to FILE.1.
const maxLog = 8 << 20

// runLog is the log of one run. It has at most two files of maxLog bytes.
type runLog struct {
	path string
	file *os.File
	size int
}

func newLog(path string) (*runLog, error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	return &runLog{path: path, file: file}, err
}

func (l *runLog) Write(text []byte) (int, error) {
	if l.size+len(text) > maxLog {
		if err := errors.Join(l.file.Close(), os.Rename(l.path, l.path+".1")); err != nil {
			return 0, err
		}
		next, err := newLog(l.path)
		if err != nil {
			return 0, err
		}
		*l = *next
	}
	n, err := l.file.Write(text)
	l.size += n
	return n, err
}

func (l *runLog) Close() error { return l.file.Close() }
