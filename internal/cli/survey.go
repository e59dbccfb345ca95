package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/kind/all"
	"dravit/internal/ui"
)

func (a *app) surveyCommand() *cobra.Command {
	var saveTo string
	var afresh bool
	c := &cobra.Command{
		Use:   "survey [programs|tools|names|ports|user...]",
		Short: "Show what this machine has: programs, versions, ports, permissions",
		Long: `Survey shows which servers and runtimes this machine has, of every kind that Dravit knows. It
searches PATH, the system's folders, the folders of programs that keep several versions side by
side, and the folders that Dravit's settings name. It asks each program for its version and for
what it was built with.

It also shows the command-line programs, the names of which PATH has several, the ports that are in
use, and what you may do on this machine. Name one of these to see it alone. Dravit remembers what
a program said until the program's file changes.`,
		Example: `  dravit survey
  dravit survey programs names
  dravit survey --save machine.json
  dravit survey --json | jq '.programs[] | select(.kind == "php")'`,
		ValidArgs: ui.SurveySections,
		Args: func(_ *cobra.Command, args []string) error {
			for _, a := range args {
				if !slices.Contains(ui.SurveySections, a) {
					return &ui.Failure{
						Exit:    exitUsage,
						What:    fmt.Sprintf("survey has no section %q", a),
						Because: "the sections are " + strings.Join(ui.SurveySections, ", "),
					}
				}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, sections []string) error {
			m, err := a.machine()
			if err != nil {
				return err
			}
			if afresh {
				if err := os.Remove(m.Home.Path("survey.json")); err != nil && !os.IsNotExist(err) {
					return err
				}
			}
			end := func() {}
			if !a.json {
				end = a.ui.Busy("asking programs for their versions")
			}
			s, err := m.Survey(cmd.Context(), a.dir)
			end()
			if err != nil {
				return err
			}
			if saveTo != "" {
				if err := save(saveTo, s); err != nil {
					return err
				}
			}
			if a.json {
				return a.print(s)
			}
			a.ui.Survey(s, all.Kinds(), sections...)
			if saveTo != "" {
				a.ui.Note("the survey is in " + saveTo)
			}
			return nil
		},
	}
	c.Flags().StringVar(&saveTo, "save", "", "also write the survey to this `file`, as JSON")
	c.Flags().BoolVar(&afresh, "afresh", false, "ask every program again, also those that did not change")
	return c
}
