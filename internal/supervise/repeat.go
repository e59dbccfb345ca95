package supervise

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"syscall"
	"time"

	"dravit/internal/home"
)

// Runs says how a command that runs at intervals ran last, and when it runs next.
type Runs struct {
	At     time.Time `json:"at"` // when its last run began; zero if none has ended yet
	TookMS int64     `json:"took_ms"`
	Code   int       `json:"code"`          // the exit code; -1 if a signal ended it
	How    string    `json:"how,omitempty"` // how it failed; "" if it did not
	Next   time.Time `json:"next"`          // when its next run begins
}

// ReadRuns reads what Repeat wrote. It returns zero Runs if no run has ended.
func ReadRuns(file string) (Runs, error) {
	var r Runs
	return r, home.ReadJSON(file, &r)
}

// Repeat runs the command at once, and then again when an interval has passed since the last run began. A run that
// takes longer delays the next one; two never run at the same time. Repeat writes each result to the file record, and
// stops what a run left behind. When it gets a signal that ends programs, it passes it on to the run, and returns when
// that has ended. For lock and tied see Run.
func Repeat(lock string, tied bool, interval time.Duration, record string, command []string) error {
	s, err := begin(lock, tied)
	if err != nil {
		return err
	}
	timer, began, ends := time.NewTimer(0), time.Time{}, false
	for {
		select {
		case <-timer.C:
			began = time.Now()
			if err := s.start(command); err != nil {
				return errors.Join(err, s.endRest(false))
			}
		case <-s.alone:
			return s.endRest(false)
		case sig := <-s.signals:
			s.pass(sig)
			ends = ends || sig == syscall.SIGTERM || sig == syscall.SIGINT || sig == syscall.SIGQUIT
			if ends && len(s.commands) == 0 {
				return s.endRest(false)
			}
		case <-s.died:
			reap(s.commands)
		case err := <-s.ended:
			clear(s.commands)
			err = errors.Join(s.endRest(false), noteRun(record, began, interval, err, timer))
			if err != nil || ends {
				return err
			}
		}
	}
}

// noteRun records how a run ended, writes it to the log, and sets the timer to the next one.
func noteRun(record string, began time.Time, interval time.Duration, err error, timer *time.Timer) error {
	ran := time.Since(began)
	r := Runs{At: began, TookMS: ran.Milliseconds(), Next: began.Add(interval)}
	if now := time.Now(); r.Next.Before(now) {
		r.Next = now
	}
	how := "with exit code 0"
	if err != nil {
		r.Code, r.How = -1, err.Error()
		var exit *exec.ExitError
		if errors.As(err, &exit) && exit.Exited() {
			r.Code = exit.ExitCode()
			r.How = fmt.Sprintf("exit code %d", r.Code)
		}
		how = "with " + r.How
	}
	fmt.Fprintf(os.Stderr, "dravit: %s the run ended after %s, %s; the next one is at %s\n",
		time.Now().UTC().Format(time.RFC3339), ran.Round(time.Millisecond), how, r.Next.UTC().Format(time.RFC3339))
	timer.Reset(time.Until(r.Next))
	return home.WriteState(record, r)
}
