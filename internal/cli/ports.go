package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"dravit/internal/stack"
	"dravit/internal/ui"
)

type portsJSON struct {
	Format int               `json:"format"`
	Ports  []stack.PortEntry `json:"ports"`
}

type portJSON struct {
	Format int `json:"format"`
	stack.PortAnswer
}

func (a *app) portsCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "ports [PORT]",
		Short: "Show which stack owns which port, and who holds it",
		Long: `Ports shows every port that belongs to a part of a stack on this machine, running or not. For each
it says whether the part holds it, it is free, or another program has taken it.

With the number of a port, it says which program listens there, since when and as which service,
and which port a part would get that asks for this one.`,
		Example: `  dravit ports
  dravit ports 8080     who listens on port 8080
  dravit ports --json | jq '.ports[] | select(.state == "taken")'`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return &ui.Failure{Exit: exitUsage, What: "ports takes one port", Next: "dravit ports 8080"}
			}
			for _, arg := range args {
				if n, err := strconv.Atoi(arg); err != nil || n < 1 || n > 65535 {
					return &ui.Failure{
						Exit:    exitUsage,
						What:    fmt.Sprintf("%q is no port", arg),
						Because: "a port is a number from 1 to 65535",
					}
				}
			}
			return nil
		},
		RunE: func(_ *cobra.Command, args []string) error {
			m, err := a.machine()
			if err != nil {
				return err
			}
			if len(args) == 0 {
				all, err := m.Ports()
				if err != nil {
					return err
				}
				if a.json {
					return a.print(portsJSON{1, all})
				}
				a.ui.Ports(all)
				return nil
			}
			port, _ := strconv.Atoi(args[0]) // checked above
			answer, err := m.Port(port)
			if err != nil {
				return err
			}
			if a.json {
				return a.print(portJSON{1, answer})
			}
			a.ui.Port(answer)
			return nil
		},
	}
}
