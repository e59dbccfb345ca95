package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"dravit/internal/plan"
	"dravit/internal/stackfile"
	"dravit/internal/task"
	"dravit/internal/trouble"
	"dravit/internal/ui"
)

// explain turns an error of the core into a message of three parts: what happened, because of what, what to do next.
func explain(err error) *ui.Failure {
	var f *ui.Failure
	var faults stackfile.Faults
	switch {
	case errors.As(err, &f):
		return f
	case errors.As(err, &faults):
		return badFile(faults)
	case errors.Is(err, context.Canceled):
		return &ui.Failure{Exit: exitInterrupted, What: "interrupted"}
	}
	t := trouble.Of(err)
	f = &ui.Failure{Exit: exitOf(t.Code), Code: t.Code, What: t.What, Because: t.Because, Next: t.Next}
	var failed *task.Error
	if errors.As(err, &failed) && len(failed.Tail) > 0 {
		f.Detail = "its output ends with\n  " + strings.Join(failed.Tail, "\n  ")
	}
	if means, ok := systemFailures[t.Code]; ok && f.Next == "" {
		f.What, f.Because, f.Next = means.what, err.Error(), means.next
	}
	return f
}

// exitOf returns the exit code of a failure (docs/exit-codes.md).
func exitOf(code trouble.Code) int {
	switch code {
	case trouble.BadFolder, trouble.NoProject, trouble.NoPart, trouble.NoSite, trouble.NoExtensions,
		trouble.BadStackFile, trouble.BadSettings, trouble.ForeignFile,
		trouble.NotEditable, trouble.NoStack, trouble.NoTask, trouble.NoMark, trouble.BadName, trouble.BadPassword,
		trouble.Undecided:
		return exitUsage
	case trouble.Forbidden, trouble.NoExec, trouble.NoWay, trouble.Unanswered:
		return exitForbidden
	}
	return exitFailed
}

// systemFailures explain errors of the operating system to a user.
var systemFailures = map[trouble.Code]struct{ what, next string }{
	trouble.NoSpace: {
		"the disk is full",
		"free some space there (df -h), or put Dravit's folder elsewhere: DRAVIT_HOME=/other/folder dravit start",
	},
	trouble.QuotaUsedUp: {
		"your account's disk quota is used up",
		"delete files of yours there, or put Dravit's folder elsewhere: DRAVIT_HOME=/other/folder dravit start",
	},
	trouble.ReadOnly: {
		"the file system is read-only",
		"mount it writable, or put Dravit's folder elsewhere: DRAVIT_HOME=/other/folder dravit start",
	},
	trouble.Forbidden: {"permission denied", "give your account access (chown, chmod), or use another folder"},
}

// badFile shows every fault of a stack file with its line.
func badFile(faults stackfile.Faults) *ui.Failure {
	var b strings.Builder
	for _, x := range faults {
		fmt.Fprintf(&b, "%s:%d:%d: %s\n", x.File, x.Line, x.Col, x.What)
		if x.Text != "" {
			fmt.Fprintf(&b, "  %s\n  %s^\n", strings.ReplaceAll(x.Text, "\t", " "),
				strings.Repeat(" ", max(0, x.Col-1)))
		}
		for _, l := range ui.Wrap(x.Hint, ui.Width()-8) {
			fmt.Fprintf(&b, "  %s\n", l)
		}
	}
	what := fmt.Sprintf("%s has %d faults", faults[0].File, len(faults))
	if len(faults) == 1 {
		what = faults[0].File + " has a fault"
	}
	return &ui.Failure{
		Exit: exitUsage, Code: trouble.BadStackFile, What: what, Detail: b.String(),
		Next: "correct it; with dravit schema, an editor knows every key",
	}
}

// noPlan shows why no plan satisfies a stack file.
func noPlan(p plan.Plan) *ui.Failure {
	first := p.Faults[0]
	f := &ui.Failure{Exit: exitNoPlan, Code: first.Code, What: first.What, Because: first.Because, Next: first.Next}
	for _, x := range p.Faults[1:] {
		f.Also = append(f.Also, x.What+", because "+x.Because)
	}
	return f
}
