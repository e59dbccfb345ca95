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
		Long: `Survey finds the servers and runtimes of every kind that Dravit knows, in PATH, in the system's folders, in the folders of
programs that keep several versions side by side, and in those that Dravit's settings name. Each is asked what it is and what
it was built for. Then come the command-line programs, the names for which PATH picks one of several, the ports that are held,
and what this user may do; each can be shown alone. What a program said is remembered as long as its file stays the same.`,
		Example: "  dravit survey\n  dravit survey programs names\n  dravit survey --save machine.json\n" +
			"  dravit survey --json | jq '.programs[] | select(.kind == \"php\")'",
		ValidArgs: ui.SurveySections,
		Args: func(_ *cobra.Command, args []string) error {
			for _, a := range args {
				if !slices.Contains(ui.SurveySections, a) {
					return &ui.Failure{
						Exit:    exitUsage,
						What:    fmt.Sprintf("a survey has no %q", a),
						Because: "its parts are " + strings.Join(ui.SurveySections, ", "),
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
				end = a.ui.Busy("asking programs what they are")
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
	c.Flags().StringVar(&saveTo, "save", "", "also write the survey to a `file`, as JSON")
	c.Flags().BoolVar(&afresh, "afresh", false, "ask every program again")
	return c
}
