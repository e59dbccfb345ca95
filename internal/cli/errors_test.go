package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/about"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/plan"
	"dravit/internal/stack"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
	"dravit/internal/ui"
)

// Every error of the core becomes three parts with an exit code of docs/exit-codes.md.
func TestExplain(t *testing.T) {
	own := &ui.Failure{Exit: exitNoPlan, What: "low tide"}
	for _, c := range []struct {
		name string
		err  error
		want ui.Failure
	}{
		{"a failure of the command itself", fmt.Errorf("starting: %w", own), *own},
		{"interrupted", fmt.Errorf("asking: %w", context.Canceled),
			ui.Failure{Exit: exitInterrupted, What: "interrupted"}},
		{"no stack", stackfile.ErrNone,
			ui.Failure{Exit: exitUsage, Code: trouble.NoStack, What: "there is no stack here",
				Because: "no dravit.toml here or in a folder above",
				Next:    "dravit propose, which looks at what is here; dravit demo shows a stack"}},
		{"never started", stack.ErrNeverStarted, ui.Failure{Exit: exitFailed, Code: trouble.NeverStarted,
			What: "this stack was never started", Because: "its ports and passwords are chosen at the first start",
			Next: "dravit start"}},
		{"no such part", trouble.NoSuchPart("boat", []string{"app", "db"}),
			ui.Failure{Exit: exitUsage, Code: trouble.NoPart,
				What: `the stack has no part "boat"`, Because: "its parts are app, db"}},
		{"no way on this machine",
			&trouble.Trouble{Code: trouble.NoWay, What: "nothing was changed", Because: "fog", Next: "wait"},
			ui.Failure{Exit: exitForbidden, Code: trouble.NoWay, What: "nothing was changed",
				Because: "fog", Next: "wait"}},
		{"a full disk", &fs.PathError{Op: "write", Path: "/x", Err: syscall.ENOSPC},
			ui.Failure{Exit: exitFailed, Code: trouble.NoSpace,
				What: "the disk is full", Because: "write /x: no space left on device",
				Next: "free some space there (df -h), or put Dravit's folder elsewhere: " +
					"DRAVIT_HOME=/other/folder dravit start"}},
		{"a full disk that the keeper met",
			&trouble.Trouble{Code: trouble.NoSpace, What: "write /x: no space left on device"},
			ui.Failure{Exit: exitFailed, Code: trouble.NoSpace, What: "the disk is full",
				Because: "write /x: no space left on device",
				Next: "free some space there (df -h), or put Dravit's folder elsewhere: " +
					"DRAVIT_HOME=/other/folder dravit start"}},
		{"closed", &fs.PathError{Op: "open", Path: "/x", Err: syscall.EACCES},
			ui.Failure{Exit: exitForbidden, Code: trouble.Forbidden,
				What: "permission denied", Because: "open /x: permission denied",
				Next: "give your account access (chown, chmod), or use another folder"}},
		{"anything else", errors.New("fog"), ui.Failure{Exit: exitFailed, What: "fog"}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, &c.want, explain(c.err)) })
	}
	quota, readOnly := explain(syscall.EDQUOT), explain(syscall.EROFS)
	assert.Equal(t, "your account's disk quota is used up", quota.What)
	assert.Equal(t, "the file system is read-only", readOnly.What)
	for code, exit := range map[trouble.Code]int{
		trouble.BadFolder: 2, trouble.NoPart: 2, trouble.NoSite: 2, trouble.NoExtensions: 2, trouble.BadSettings: 2,
		trouble.ForeignFile: 2, trouble.NotEditable: 2, trouble.NoStack: 2, trouble.Forbidden: 4, trouble.NoWay: 4,
		trouble.Damaged: 1, trouble.KeeperSilent: 1, trouble.NoSpace: 1, "": 1,
	} {
		assert.Equal(t, exit, exitOf(code), code)
	}
}

// Every fault of a stack file is shown with its line, and where on it.
func TestBadFile(t *testing.T) {
	f := explain(stackfile.Faults{
		{File: "dravit.toml", Line: 3, Col: 4, Text: "\tx = 1", What: "unknown key", Hint: "did you mean y?"},
		{File: "dravit.toml", What: "no part"},
	})
	assert.Equal(t, exitUsage, f.Exit)
	assert.Equal(t, trouble.BadStackFile, f.Code)
	assert.Equal(t, "dravit.toml has 2 faults", f.What)
	assert.Equal(t,
		"dravit.toml:3:4: unknown key\n   x = 1\n     ^\n  did you mean y?\ndravit.toml:0:0: no part\n", f.Detail)
	assert.Equal(t, "dravit.toml has a fault", explain(stackfile.Faults{{File: "dravit.toml"}}).What)
}

func TestNoPlan(t *testing.T) {
	f := noPlan(plan.Plan{Faults: []plan.Fault{
		{Code: trouble.NoPort, What: "one", Because: "fog", Next: "wait"},
		{What: "two", Because: "ebb"},
		{What: "three", Because: "wind"},
	}})
	assert.Equal(t, &ui.Failure{Exit: exitNoPlan, Code: trouble.NoPort, What: "one", Because: "fog", Next: "wait",
		Also: []string{"two, because ebb", "three, because wind"}}, f)
}

// The failure names the part or site that the others may wait for.
func TestNotAnswering(t *testing.T) {
	part := func(name string, state lifecycle.State) lifecycle.Status {
		return lifecycle.Status{Name: name, Kind: "redis", Version: "7.0", State: state}
	}
	yes, no := true, false
	site := func(rungs ...health.Result) stack.Started {
		out := stack.Started{Parts: []lifecycle.Status{part("db", lifecycle.Answers)}}
		out.Sites = append(out.Sites, health.SiteResult{Name: "ferry", Rungs: rungs})
		return out
	}
	f, _ := notAnswering(site(health.Result{Rung: kind.Replies, Holds: &yes}))
	assert.Nil(t, f)
	f, subjects := notAnswering(stack.Started{Parts: []lifecycle.Status{
		part("app", lifecycle.Waiting), part("web", lifecycle.Starting), part("db", lifecycle.Failed),
	}})
	assert.Equal(t,
		&ui.Failure{Exit: exitFailed, What: "part db (redis 7.0) does not answer", Because: "it is still failed",
			Next: "dravit logs db"}, f)
	assert.Equal(t, []about.Subject{about.Part("db"), about.Machine}, subjects,
		"the cause of another part is not that of this one")
	unwell := part("db", lifecycle.Unwell)
	unwell.Because, unwell.Next, unwell.LogTail = "works: fog", "dravit check", []string{"one", "two"}
	f, _ = notAnswering(stack.Started{Parts: []lifecycle.Status{part("app", lifecycle.Waiting), unwell}})
	assert.Equal(t, &ui.Failure{Exit: exitFailed, What: "part db (redis 7.0) is unwell",
		Because: "works: fog", Next: "dravit check",
		Detail: "its log ends with\n  one\n  two"}, f)
	f, _ = notAnswering(stack.Started{Parts: []lifecycle.Status{part("app", lifecycle.Waiting)}})
	require.NotNil(t, f)
	assert.Equal(t, "it is still waiting", f.Because)

	f, _ = notAnswering(site())
	assert.Equal(t, "the gateway does not run", f.Because)
	f, _ = notAnswering(site(health.Result{Rung: kind.Replies, Holds: &no, Expected: "a page", Got: "fog"}))
	assert.Equal(t, "the site ferry answers wrongly", f.What)
	assert.Equal(t, "replies: expected a page, got fog", f.Because)
	assert.Equal(t, "dravit diagnose", f.Next)
	f, _ = notAnswering(site(health.Result{Rung: kind.Replies, Holds: &no, Silent: true}))
	assert.Equal(t, "the site ferry does not answer", f.What)
	f, _ = notAnswering(site(health.Result{Rung: kind.Resolves, Holds: &no}))
	assert.Equal(t, "dravit names hosts on, or dravit names resolver on", f.Next)
}
