package command

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/supervise"
)

// workerLadder returns the rungs of a worker: a process of it is alive, and it works. How to tell that, the stack file
// says; if it does not, the worker works if it keeps running.
func workerLadder(p kind.Part) []kind.Rung {
	ladder := []kind.Rung{health.Alive(p)}
	proof := p.Want.Proof
	switch {
	case p.Want.Interval() > 0:
		return append(ladder, kind.Rung{Name: kind.Works, Ask: func(context.Context) error { return ranWell(p) }})
	case proof == nil:
		return append(ladder, kind.Rung{Name: kind.Works, Ask: func(context.Context) error { return settled(p) }})
	case proof.Command != "":
		return append(ladder, kind.Rung{Name: kind.Works, Ask: func(ctx context.Context) error {
			return runProof(ctx, p, proof.Command)
		}})
	}
	return append(ladder, kind.Rung{Name: kind.Works, Ask: func(context.Context) error {
		return freshFile(p, proof.File, proof.MaxAge())
	}})
}

// settling is how long a worker without a proof has to run before it counts as one that works.
const settling = 500 * time.Millisecond

// settled is nil if the worker has run for a while. Its supervisor writes its lock file when it starts.
func settled(p kind.Part) error {
	info, err := os.Stat(p.Lock)
	if err != nil {
		return err
	}
	if age := time.Since(info.ModTime()); age < settling {
		return &kind.Miss{Expected: "a process that keeps running", Got: "one that has run for " +
			age.Round(time.Millisecond).String()}
	}
	return nil
}

// ranWell is nil if the last run of a command that runs at intervals exited with 0. While its first run goes on, it is
// as for a worker without a proof.
func ranWell(p kind.Part) error {
	runs, err := supervise.ReadRuns(p.RunsFile())
	if err != nil {
		return err
	}
	if runs.At.IsZero() {
		return settled(p)
	}
	if runs.How != "" {
		return &kind.Miss{Expected: "a run that exits with 0", Got: fmt.Sprintf("%s at %s; it runs next at %s",
			runs.How, runs.At.Local().Format(time.TimeOnly), runs.Next.Local().Format(time.TimeOnly))}
	}
	return nil
}

// runProof runs a proof's command, which came with the stack's last start. It is a *kind.Miss if the command exits with
// another code than 0.
func runProof(ctx context.Context, p kind.Part, command string) error {
	var out bytes.Buffer
	cmd := exec.CommandContext(ctx, "/bin/sh", "-c", command)
	cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = p.Project, p.Env, &out, &out
	cmd.WaitDelay = time.Second // a process in the background may keep the output open
	err := cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		lines := strings.Split(strings.TrimSpace(out.String()), "\n")
		got := fmt.Sprintf("exit code %d", exit.ExitCode())
		if last := lines[len(lines)-1]; last != "" {
			got += ": " + last
		}
		return &kind.Miss{Expected: "exit code 0 of " + command, Got: got}
	}
	return err
}

// freshFile is nil if a file of the project was written to within a time, and since the worker was started: its
// supervisor writes its lock file when it starts.
func freshFile(p kind.Part, name string, within time.Duration) error {
	want := name + " written within " + within.String()
	info, err := os.Stat(filepath.Join(p.Project, name))
	if errors.Is(err, os.ErrNotExist) {
		return &kind.Miss{Expected: want, Got: "no such file"}
	}
	if err != nil {
		return err
	}
	if age := time.Since(info.ModTime()); age > within {
		return &kind.Miss{Expected: want, Got: "written " + age.Round(time.Second).String() + " ago"}
	}
	if lock, err := os.Stat(p.Lock); err == nil && info.ModTime().Before(lock.ModTime()) {
		return &kind.Miss{Expected: want, Got: "written before the worker was started"}
	}
	return nil
}
