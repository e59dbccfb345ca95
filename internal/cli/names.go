package cli

import (
	"github.com/spf13/cobra"

	"dravit/internal/certificates"
	"dravit/internal/stack"
	"dravit/internal/survey"
)

type namesJSON struct {
	Format int `json:"format"`
	stack.Names
}

func (a *app) namesCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "names",
		Short: "Show every host name, where it leads, and who serves it",
		Long: `Names shows the host names of every stack on this machine, running or not: what the system's resolver says of each, here and now, who
serves it, and its addresses over HTTP and HTTPS. Browsers and curl know names below localhost by themselves (RFC 6761).

Certificates are signed by an authority of your own that can vouch for names below localhost only. Nothing trusts it until you say
so: names shows the commands for that, and those that take it back.`,
		Example: "  dravit names\n  dravit names --json | jq -r '.names[].secure_url'\n  curl --cacert \"$(dravit names --json | jq -r .authority)\" https://ferry.localhost:8443/",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := a.machine()
			if err != nil {
				return err
			}
			names, err := m.Names(cmd.Context())
			if err != nil {
				return err
			}
			if a.json {
				return a.print(namesJSON{1, names})
			}
			trust, untrust := certificates.Trusting(names.Authority)
			a.ui.Names(names, trust, untrust, survey.LowPorts())
			return nil
		},
	}
}
