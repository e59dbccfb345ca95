package cli

import (
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dravit/internal/report"
	"dravit/internal/stack"
	"dravit/internal/ui"
)

type reportJSON struct {
	Format  int    `json:"format"`
	Stack   string `json:"stack"`
	File    string `json:"file"`
	Answers bool   `json:"answers"`
}

func (a *app) reportCommand() *cobra.Command {
	var only, svg string
	c := &cobra.Command{
		Use:   "report [FILE]",
		Short: "Write a report on the stack, as one HTML file",
		Long: `Report asks every part and site as check does, and writes the result to one HTML file, which loads
nothing from elsewhere. It shows which part uses which, the ladder (health check) of each part and
site, pages that failed lately, the time line of the last start, how long the last starts took, and each
decision with its reasons. If you name no FILE, the report goes into Dravit's own folder.

With --only and --svg, report writes one picture: ` + strings.Join(report.Pictures, ", ") + `.`,
		Example: `  dravit report
  dravit report ferry.html
  dravit report --only topology --svg ferry.svg     one picture`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if (only == "") != (svg == "") || svg != "" && len(args) > 0 {
				return &ui.Failure{Exit: exitUsage, What: "--only and --svg go together, without another file"}
			}
			if only != "" && !slices.Contains(report.Pictures, only) {
				return &ui.Failure{
					Exit:    exitUsage,
					What:    "there is no picture " + only,
					Because: "the pictures are " + strings.Join(report.Pictures, ", "),
				}
			}
			s, err := a.stack()
			if err != nil {
				return err
			}
			if s.ID == "" {
				return stack.ErrNeverStarted
			}
			d, err := s.Report(cmd.Context())
			if err != nil {
				return err
			}
			data := report.Data{
				Spec:    d.Spec,
				Checked: d.Checked,
				Plan:    d.Plan,
				Starts:  d.Starts,
				At:      time.Now(),
				Version: Version,
			}
			file, text := s.Home.Stack(s.ID, "report.html"), []byte(nil)
			if only != "" {
				file = svg
				text, err = report.SVG(data, only)
			} else {
				text, err = report.HTML(data)
			}
			if err != nil {
				return err
			}
			if len(args) > 0 {
				file = args[0]
			}
			if err := saveText(file, string(text)); err != nil {
				return err
			}
			if a.json {
				return a.print(reportJSON{1, s.Name, file, d.Checked.Answers})
			}
			a.ui.Note("written: " + file)
			a.ui.Next("open " + file + " in a browser")
			return nil
		},
	}
	c.Flags().StringVar(&only, "only", "", "write only this `picture`")
	c.Flags().StringVar(&svg, "svg", "", "write the picture to this `file`, as SVG")
	return c
}
