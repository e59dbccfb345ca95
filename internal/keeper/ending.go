package keeper

import (
	"cmp"
	"fmt"
	"os"
	"syscall"
	"time"

	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/logfile"
	"dravit/internal/run"
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

// exitOf says how a process ended. short is whether the kernel killed a process as the memory was used up meanwhile.
func exitOf(end run.End, state lifecycle.State, short bool) exitReport {
	how, code, number := fmt.Sprintf("it exited with code %d", end.Code), trouble.Exited, end.Code
	switch {
	case end.Unseen:
		how, number = "it exited while no keeper ran", -1
	case end.Signal == syscall.SIGKILL && short:
		how, code, number = "the kernel killed it, as there was no memory left", trouble.OutOfMemory, -1
	case end.Signal != 0:
		how, number = fmt.Sprintf("it was killed by signal %d (%s)", int(end.Signal), end.Signal), -1
		if end.Signal == syscall.SIGKILL {
			code = trouble.Killed
		}
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
