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

// ordinary switches to an ordinary account if root runs a command that works on stacks. It runs the command again as
// that account, and does not return then.
func (a *app) ordinary(cmd *cobra.Command) error {
	if os.Geteuid() != 0 {
		if a.account != "" {
			return &ui.Failure{
				Exit:    exitUsage,
				What:    "--account is for root",
				Because: "another user cannot become " + a.account,
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
		text := "Dravit would run as an account of its own, made with\n    " + strings.Join(account.MakeCommand, " ")
		if agreed, err := a.agrees(cmd.Context(), text, "Make it?"); err != nil {
			return err
		} else if !agreed {
			return &ui.Failure{Exit: exitForbidden, What: "Dravit does not run as root",
				Because: "servers started by root own the machine, and databases refuse it; no sudo account and no " +
					"owner of this folder offers itself",
				Next: "the same command with --yes makes an account for it (" + strings.Join(account.MakeCommand, " ") +
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
			What:    "Dravit cannot become " + u.Username,
			Because: err.Error(),
			Next:    "run the command as " + u.Username,
		}
	}
	return nil
}
