package cli

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/account"
	"dravit/internal/ui"
)

// noAccount is why root needs an account to be named or made.
const noAccount = "a server that runs as root may do anything on this machine, and databases refuse to; " +
	"neither sudo nor this folder's owner names an ordinary account"

// ordinary switches to an ordinary account if root runs a command that works on stacks. It runs the command again as
// that account, and does not return then.
func (a *app) ordinary(cmd *cobra.Command) error {
	if os.Geteuid() != 0 {
		if a.account != "" && a.account != account.Current().Username { // else root has switched to it
			return &ui.Failure{
				Exit:    exitUsage,
				What:    "--account is for root",
				Because: "only root can switch to " + a.account,
			}
		}
		return nil
	}
	if slices.Contains([]string{"dravit", "help", "completion", "bash", "zsh", "fish", "powershell", "schema",
		"version", cobra.ShellCompRequestCmd, cobra.ShellCompNoDescRequestCmd}, cmd.Name()) {
		return nil
	}
	u, err := account.For(a.account, a.dir)
	if errors.Is(err, account.ErrNone) {
		command := account.MakeCommand()
		if command == nil {
			return &ui.Failure{Exit: exitForbidden, What: "Dravit does not run as root",
				Because: noAccount,
				Next:    "make an ordinary account, and name it with --account"}
		}
		text := "Dravit would run as its own account, created with\n    " + strings.Join(command, " ")
		if agreed, err := a.agrees(cmd.Context(), text, "Make it?"); err != nil {
			return err
		} else if !agreed {
			return &ui.Failure{Exit: exitForbidden, What: "Dravit does not run as root",
				Because: noAccount,
				Next: "the same command with --yes creates an account (" + strings.Join(command, " ") +
					"); or name one with --account"}
		}
		u, err = account.Make()
	}
	if err != nil {
		return &ui.Failure{
			Exit:    exitForbidden,
			What:    "Dravit does not run as root",
			Because: err.Error(),
			Next:    "name an ordinary account with --account",
		}
	}
	a.ui.Note(fmt.Sprintf("dravit: running as %s, never as root", u.Username))
	if err := account.Become(u); err != nil {
		return &ui.Failure{
			Exit:    exitForbidden,
			What:    "Dravit cannot switch to " + u.Username,
			Because: err.Error(),
			Next:    "run the command as " + u.Username,
		}
	}
	return nil
}
