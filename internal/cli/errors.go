package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"syscall"

	"dravit/internal/home"
	"dravit/internal/keeper"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/settings"
	"dravit/internal/stack"
	"dravit/internal/stackfile"
	"dravit/internal/ui"
)

// explain puts an error of the core in three parts: what happened, because of what, what to do next.
func explain(err error) *ui.Failure {
	var f *ui.Failure
	var faults stackfile.Faults
	var badPath *stack.PathError
	var silent *keeper.SilentError
	var damaged *home.DamagedError
	var noPart *stack.NoPartError
	var noRuntime *stack.NoRuntimeError
	var setting *settings.Fault
	var noSite *stack.NoSiteError
	var unknown *stack.NoSuchSiteError
	var foreign *materialise.ForeignFileError
	switch {
	case errors.As(err, &f):
		return f
	case errors.As(err, &silent):
		return silentKeeper(silent)
	case errors.As(err, &damaged):
		return &ui.Failure{Code: exitFailed, What: "a file of Dravit's is damaged, and so is its copy", Because: damaged.Error(),
			Next: "move it away, then dravit start"}
	case errors.As(err, &badPath):
		return &ui.Failure{Code: exitUsage, What: "this folder cannot be a project", Because: badPath.Error(), Next: "rename the folder"}
	case errors.As(err, &faults):
		return badFile(faults)
	case errors.Is(err, stackfile.ErrNone):
		return &ui.Failure{Code: exitUsage, What: "there is no stack here", Because: err.Error(), Next: "dravit demo shows one; dravit schema describes every key"}
	case errors.As(err, &noPart):
		return &ui.Failure{Code: exitUsage, What: err.Error(), Because: "its parts are " + strings.Join(noPart.Parts, ", ")}
	case errors.As(err, &unknown):
		return &ui.Failure{Code: exitUsage, What: unknown.Error()}
	case errors.As(err, &noSite):
		return &ui.Failure{Code: exitUsage, What: noSite.Error(), Next: "listen = \"network\" in the site's table of " + stackfile.Name}
	case errors.As(err, &foreign):
		return &ui.Failure{Code: exitUsage, What: "the stack's variables were not written", Because: foreign.Error(), Next: "move " + foreign.File + " away, or name another file: dotenv in " + stackfile.Name}
	case errors.As(err, &noRuntime):
		return &ui.Failure{Code: exitUsage, What: noRuntime.What, Next: noRuntime.Next}
	case errors.As(err, &setting):
		return &ui.Failure{Code: exitUsage, What: "Dravit's settings have a fault", Because: setting.What, Next: "correct " + setting.File}
	case errors.Is(err, stackfile.ErrEdit):
		return &ui.Failure{Code: exitUsage, What: "the stack file stays as it is", Because: err.Error(), Next: "change the part's extensions in " + stackfile.Name + " by hand"}
	case errors.Is(err, stack.ErrNoStack):
		return &ui.Failure{Code: exitUsage, What: err.Error(), Because: "a stack gets its name when it is started", Next: "dravit start, in the project's folder"}
	case errors.Is(err, stack.ErrNeverStarted):
		return &ui.Failure{Code: exitFailed, What: err.Error(), Because: "its ports and passwords are chosen at the first start", Next: "dravit start"}
	case errors.Is(err, context.Canceled):
		return &ui.Failure{Code: exitInterrupted, What: "interrupted"}
	case errors.Is(err, syscall.ENOSPC):
		return &ui.Failure{Code: exitFailed, What: "there is no space left", Because: err.Error(), Next: "make room there (df -h), or put Dravit's folder elsewhere: DRAVIT_HOME=/other/folder dravit start"}
	case errors.Is(err, syscall.EDQUOT):
		return &ui.Failure{Code: exitFailed, What: "this account may store no more", Because: err.Error(), Next: "remove files of yours there, or put Dravit's folder elsewhere: DRAVIT_HOME=/other/folder dravit start"}
	case errors.Is(err, fs.ErrPermission):
		return &ui.Failure{Code: exitForbidden, What: "this account may not do that", Because: err.Error(), Next: "make the file this account's, or use another folder"}
	}
	return &ui.Failure{Code: exitFailed, What: err.Error()}
}

// silentKeeper says what to do about a keeper that hangs. Its parts live on without it.
func silentKeeper(e *keeper.SilentError) *ui.Failure {
	f := &ui.Failure{Code: exitFailed, What: "Dravit's keeper does not answer", Because: e.Error() + "; its process hangs, or somebody stopped it",
		Next: "dravit ports and ps tell which process it is"}
	if e.PID != 0 {
		f.Next = fmt.Sprintf("kill -CONT %d; if that does not help, kill -9 %d: its parts live on, and the next command takes them over", e.PID, e.PID)
	}
	return f
}

// badFile shows every fault of a stack file with its line.
func badFile(faults stackfile.Faults) *ui.Failure {
	var b strings.Builder
	for _, x := range faults {
		fmt.Fprintf(&b, "%s:%d:%d: %s\n", x.File, x.Line, x.Col, x.What)
		if x.Text != "" {
			fmt.Fprintf(&b, "  %s\n  %s^\n", strings.ReplaceAll(x.Text, "\t", " "), strings.Repeat(" ", max(0, x.Col-1)))
		}
		for _, l := range ui.Wrap(x.Hint, 90) {
			fmt.Fprintf(&b, "  %s\n", l)
		}
	}
	what := fmt.Sprintf("%s has %d faults", faults[0].File, len(faults))
	if len(faults) == 1 {
		what = faults[0].File + " has a fault"
	}
	return &ui.Failure{Code: exitUsage, What: what, Detail: b.String(), Next: "correct it; dravit schema describes every key to an editor"}
}

// noPlan shows why no plan satisfies a stack file.
func noPlan(p plan.Plan) *ui.Failure {
	first := p.Faults[0]
	f := &ui.Failure{Code: exitNoPlan, What: first.What, Because: first.Because, Next: first.Next}
	for _, x := range p.Faults[1:] {
		f.Also = append(f.Also, x.What+", because "+x.Because)
	}
	return f
}
