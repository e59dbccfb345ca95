package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dravit/demo"
	"dravit/internal/shell"
	"dravit/internal/stack"
	"dravit/internal/ui"
)

func (a *app) demoCommand() *cobra.Command {
	var remove, realOnly bool
	c := &cobra.Command{
		Use:   "demo [DIR]",
		Short: "Run a made-up ferry office, to see what Dravit does",
		Long: `Demo writes the project of Saltmarsh Ferry, the booking office of a made-up island, to a folder.
If you name none, that is saltmarsh-ferry in your home folder. It then starts the project and
proves that it answers.

The demo uses nginx, PHP, MariaDB and Redis if this machine has them, and otherwise parts that are
built into Dravit. With --real it takes those servers, and offers to fetch what the machine lacks. It does
not overwrite files of the demo that are there already.`,
		Example: `  dravit demo
  dravit demo ~/ferry        in that folder
  dravit demo --real         on nginx, PHP, MariaDB and Redis, whatever is installed
  dravit demo --remove       stop it, and delete its folder and its data`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			dir, err := demoDir(args)
			if err != nil {
				return err
			}
			m, err := a.machine()
			if err != nil {
				return err
			}
			if remove {
				return a.removeDemo(cmd, dir)
			}
			if err := demo.Write(dir, realOnly); err != nil {
				if errors.Is(err, demo.ErrNotEmpty) {
					return &ui.Failure{
						Exit:    exitUsage,
						What:    "the demo is not written to " + dir,
						Because: "the folder is not empty and holds no demo",
						Next:    "dravit demo OTHER-FOLDER",
					}
				}
				return err
			}
			s, err := m.Find(dir, "")
			if err != nil {
				return err
			}
			start := a.starting(s, stack.StartOptions{Timeout: 2 * time.Minute})
			if err := a.begin(cmd.Context(), s, start.Again); err != nil || a.json {
				return err
			}
			quoted := shell.Quote(dir)
			a.ui.Line("")
			a.ui.Line("Book a crossing on the page, and read the mail that it sends at the mail " +
				"site's address. Then try")
			for _, line := range [][2]string{{"cd " + quoted, ""},
				{"dravit plan", "why these programs, and which were rejected"},
				{"dravit check", "check it again, part by part"},
				{"dravit demo --remove " + quoted, "stop it, and delete it with its data"}} {
				a.ui.Line(strings.TrimRight(fmt.Sprintf("  %-14s  %s", line[0], line[1]), " "))
			}
			return nil
		},
	}
	c.Flags().BoolVar(&realOnly, "real", false, "use real servers only, and fetch what this machine lacks")
	c.Flags().BoolVar(&remove, "remove", false, "stop the demo, and delete its folder and its data")
	return c
}

func demoDir(args []string) (string, error) {
	if len(args) == 1 {
		return filepath.Abs(args[0])
	}
	base, err := os.UserHomeDir()
	return filepath.Join(base, "saltmarsh-ferry"), err
}

func (a *app) removeDemo(cmd *cobra.Command, dir string) error {
	if !demo.Is(dir) {
		return &ui.Failure{
			Exit:    exitUsage,
			What:    "there is no demo in " + dir,
			Because: "the folder was not written by dravit demo",
			Next:    "dravit demo --remove FOLDER",
		}
	}
	m, err := a.machine()
	if err != nil {
		return err
	}
	s, err := m.Find(dir, "")
	if err != nil {
		return err
	}
	if err := s.Remove(cmd.Context(), true); err != nil {
		return err
	}
	if err := demo.Remove(dir); err != nil {
		return err
	}
	if a.json {
		return a.print(map[string]any{"format": 1, "removed": dir})
	}
	a.ui.Line("removed " + dir + " and what Dravit kept of it")
	return nil
}
