package keeper

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/logfile"
	"dravit/internal/trouble"
)

// exitReport describes how a part's process ended.
type exitReport struct {
	what  string // in Dravit's words
	log   string // what the part wrote to its log since its process started
	final bool   // another process would end the same way
	code  trouble.Code
	exit  int // the exit code; -1 if a signal ended the process or its end was not seen
}

// killed reports whether another process ended it. Its log does not explain that.
func (e exitReport) killed() bool { return e.code == trouble.Killed || e.code == trouble.OutOfMemory }

// explain finds the cause of an end in the end of the part's log.
func (p *partRunner) explain(log, what string) (because, next string) {
	if because, next = kind.Explain(p.kind.Traits().Symptoms, log, p.spec.Name); because != "" {
		return because, next
	}
	return cmp.Or(p.kind.LastWords(log), what), ""
}

// logSince returns what the log holds from an offset on, at most its last 64 KB.
func (p *partRunner) logSince(offset int64) string {
	text, _ := logfile.Since(p.spec.Log, offset, maxSaid)
	return text
}

// maxSaid bounds how much of the log of one process is searched, in bytes.
const maxSaid = 64 << 10

// lastSaid is how much of the end of the log explains why the process ended, in bytes.
const lastSaid = 8 << 10

// signalOf returns the signal that ended a process, 0 if none did. A shell or a supervisor whose command was killed
// exits with 128 and the signal's number (POSIX sh, "Exit Status").
func signalOf(exit *exec.ExitError) syscall.Signal {
	if status, ok := exit.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		return status.Signal()
	}
	if s := syscall.Signal(exit.ExitCode() - 128); s > 0 && unix.SignalName(s) != "" {
		return s
	}
	return 0
}

// exitOf says how a process ended. short is whether the kernel killed a process as the memory was used up meanwhile.
func exitOf(err error, state lifecycle.State, short bool) exitReport {
	var exit *exec.ExitError
	how, code, number := "it ended", trouble.Exited, -1
	switch {
	case errors.Is(err, errUnseen):
		how = err.Error()
	case errors.As(err, &exit):
		by := signalOf(exit)
		if by == syscall.SIGKILL {
			code = trouble.Killed
		}
		switch {
		case by == syscall.SIGKILL && short:
			how, code = "the kernel killed it, as there was no memory left", trouble.OutOfMemory
		case by != 0:
			how = fmt.Sprintf("it was killed by signal %d (%s)", int(by), by)
		default:
			how, number = fmt.Sprintf("it exited with code %d", exit.ExitCode()), exit.ExitCode()
		}
	case err == nil:
		how, number = "it exited with code 0", 0
	}
	if state != lifecycle.Answers && state != lifecycle.Unwell {
		how += " before it answered"
	}
	return exitReport{what: how, code: code, exit: number}
}

// maxLog is how long a log may be, in bytes, before it is rotated when its part starts again.
const maxLog = 8 << 20

// rotateLog rotates a log that is too long, and returns the offset at which the log of the next process begins.
func (p *partRunner) rotateLog() int64 {
	info, err := os.Stat(p.spec.Log)
	if err != nil {
		return 0
	}
	if info.Size() > maxLog {
		_ = os.Rename(p.spec.Log, p.spec.Log+".1")
		return 0
	}
	return info.Size()
}

// noteMark begins each line that the keeper writes into a part's log.
const noteMark = "dravit: "

// note writes a line with the time into the part's log: when a process was started and how it ended.
func (p *partRunner) note(format string, values ...any) {
	line := noteMark + time.Now().Format(time.RFC3339) + " " + fmt.Sprintf(format, values...) + "\n"
	p.appendLog([]byte(line))
}

func (p *partRunner) appendLog(text []byte) {
	f, err := os.OpenFile(p.spec.Log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err == nil {
		_, _ = f.Write(text)
		f.Close()
	}
}
