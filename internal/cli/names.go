package cli

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/certificates"
	"dravit/internal/setup"
	"dravit/internal/stack"
	"dravit/internal/survey"
	"dravit/internal/trouble"
	"dravit/internal/ui"
)

type namesJSON struct {
	Format int `json:"format"`
	stack.Names
}

func (a *app) namesCommand() *cobra.Command {
	c := &cobra.Command{
		Use:   "names",
		Short: "Show every host name, what it resolves to, and who serves it",
		Long: `Names shows the host names of every stack on this machine, running or not: what the system's
resolver answers for each now, which part serves it, and its HTTP and HTTPS addresses. Browsers and
curl know names below localhost without any set-up (RFC 6761).

Names with another suffix need the hosts file or a resolver, and HTTPS needs a certificate
authority that your browsers trust. Three commands set these up: names hosts, names resolver and
names certificate. Each shows what it would change, asks first, and can take it back.`,
		Example: `  dravit names
  dravit names hosts on            write the names to the hosts file
  dravit names certificate off     remove the trust in Dravit's certificates
  dravit names --json | jq -r '.names[].secure_url'
  curl --cacert "$(dravit names --json | jq -r .authority)" https://ferry.localhost:8443/`,
		Args: noArgs,
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
			a.ui.Names(names, survey.LowPorts())
			return nil
		},
	}
	c.AddCommand(a.hostsCommand(), a.resolverCommand(), a.certificateCommand())
	return c
}

func (a *app) hostsCommand() *cobra.Command {
	return a.setUpCommand("hosts", "Write the sites' names to the hosts file, or remove them",
		`Hosts writes the host names of all stacks to a block of the system's hosts file, or removes that
block. The rest of the file stays as it is. A hosts file has no wildcards and does not follow your
stacks: run the command again when their names change.`,
		func(m *stack.Machine, p setup.Place, on bool) ([]setup.Step, string, error) {
			if !on {
				steps, err := p.Hosts(nil)
				return steps, "", err
			}
			hosts, _, _, err := m.Hosts()
			if err == nil && len(hosts) == 0 {
				err = setup.NoWay("no stack has a host name yet", "dravit start")
			}
			if err != nil {
				return nil, "", err
			}
			steps, err := p.Hosts(hosts)
			var wildcards, notes []string
			for _, h := range hosts {
				if strings.HasPrefix(h, "*.") {
					wildcards = append(wildcards, h)
				}
			}
			if len(steps) > 0 {
				notes = append(notes, fmt.Sprintf("this writes a block of %d names to %s; the rest of the file stays",
					len(hosts)-len(wildcards), p.HostsFile()))
			}
			if len(wildcards) > 0 {
				notes = append(notes, "left out, as a hosts file has no wildcards: "+trouble.List(wildcards))
			}
			return steps, strings.Join(notes, "\n"), err
		})
}

func (a *app) resolverCommand() *cobra.Command {
	return a.setUpCommand("resolver", "Make the system's resolver ask Dravit's own, or stop that",
		`Resolver makes the system's resolver ask Dravit's own for names below the stacks' suffixes,
wildcards included. Dravit's resolver listens on loopback only, runs while any stack runs, and
forwards no queries. If your system's resolver cannot be set up for one suffix, use names hosts.`,
		func(m *stack.Machine, p setup.Place, on bool) ([]setup.Step, string, error) {
			_, suffixes, port, err := m.Hosts()
			if err != nil {
				return nil, "", err
			}
			if !on {
				suffixes = nil
			} else if len(suffixes) == 0 {
				return nil, "", setup.NoWay("every name ends with localhost, which needs no set-up",
					"a site with suffix = \"test\" in dravit.toml, then dravit start")
			}
			steps, err := p.Resolver(suffixes, port)
			return steps, "", err
		})
}

func (a *app) certificateCommand() *cobra.Command {
	return a.setUpCommand("certificate", "Make this machine trust the sites' certificates, or stop that",
		`Certificate adds the certificate of your own authority to the system's store and to the databases
of your browsers, or removes it. The browsers' databases need the program certutil and no root, and
are changed first. The authority may certify names below localhost, test and your stacks' suffixes
only.`,
		func(m *stack.Machine, p setup.Place, on bool) ([]setup.Step, string, error) {
			file := certificates.File(m.Home)
			if _, err := os.Stat(file); errors.Is(err, os.ErrNotExist) {
				return nil, "", setup.NoWay("there is no certificate authority before the first start", "dravit start")
			}
			if !on {
				return p.Distrust(file), "", nil
			}
			steps, err := p.Trust(file)
			hosts, _, _, hostsErr := m.Hosts()
			note := ""
			if len(steps) > 0 {
				note = "programs of this machine would trust certificates that it signs, but only for names below " +
					strings.Join(certificates.Permitted(m.Home), ", ") + " only: " + trouble.List(hosts)
			}
			return steps, note, errors.Join(err, hostsErr)
		})
}

type setUpJSON struct {
	Format   int      `json:"format"`
	Done     bool     `json:"done"`     // nothing is left to do
	Commands []string `json:"commands"` // the commands that were run, or would be
}

// setUpCommand returns a command that changes the system after the user agreed.
func (a *app) setUpCommand(name, short, long string,
	steps func(m *stack.Machine, p setup.Place, on bool) ([]setup.Step, string, error)) *cobra.Command {
	return &cobra.Command{
		Use:   name + " on|off",
		Short: short,
		Long: long + "\n\nIt shows the commands and asks; --yes agrees beforehand. Without a terminal and " +
			"without --yes nothing is changed.",
		Example:   "  dravit names " + name + " on\n  dravit names " + name + " off --yes",
		ValidArgs: []string{"on", "off"},
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 || args[0] != "on" && args[0] != "off" {
				return &ui.Failure{Exit: exitUsage, What: "names " + name + " needs on or off"}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			m, err := a.machine()
			if err != nil {
				return err
			}
			place := m.Place()
			todo, note, err := steps(m, place, args[0] == "on")
			if err == nil {
				err = a.carryOut(cmd, todo, note)
			}
			var partly *setup.PartlyError
			if errors.As(err, &partly) {
				return a.partly("names "+name+" "+args[0], partly)
			}
			if errors.Is(err, trouble.NoWay) {
				f := explain(err)
				f.What = "names " + name + " " + args[0] + " changed nothing"
				return f
			}
			return err
		},
	}
}

// partly says which steps were carried out, and which ones the user has left to do.
func (a *app) partly(command string, e *setup.PartlyError) error {
	f := &ui.Failure{Exit: exitForbidden, What: command + " was only partly done", Because: e.Error()}
	done, left := []string{}, []string{}
	for _, s := range e.Done {
		done = append(done, s.String())
	}
	for _, s := range e.Left {
		left = append(left, s.String())
	}
	f.Detail = "done\n  " + strings.Join(done, "\n  ") + "\nleft\n  " + strings.Join(left, "\n  ") + "\n"
	f.Next = "run the commands that are left, as root"
	if a.json {
		if err := a.print(setUpJSON{1, false, left}); err != nil {
			return err
		}
	}
	return f
}

// carryOut shows the steps and runs them once the user agrees.
func (a *app) carryOut(cmd *cobra.Command, steps []setup.Step, note string) error {
	texts := []string{}
	for _, s := range steps {
		texts = append(texts, s.String())
	}
	if note != "" {
		a.ui.Note(note)
	}
	agreed, err := len(steps) == 0, error(nil)
	if !agreed {
		agreed, err = a.agrees(cmd.Context(), "Dravit would run\n    "+strings.Join(texts, "\n    "), "Run it?")
	}
	if err != nil {
		return err
	}
	if !agreed {
		if a.json {
			_ = a.print(setUpJSON{1, false, texts})
			return exitCode(exitForbidden)
		}
		if !a.asks() {
			a.ui.Note("Dravit would run\n    " + strings.Join(texts, "\n    "))
		}
		return &ui.Failure{
			Exit:    exitForbidden,
			What:    "nothing was changed",
			Because: "this would change system files, and you did not agree",
			Next:    cmd.CommandPath() + " " + cmd.Flags().Arg(0) + " --yes, or run the commands yourself",
		}
	}
	if err := setup.Run(cmd.Context(), steps, a.ui.Err); err != nil {
		return err
	}
	if a.json {
		return a.print(setUpJSON{1, true, texts})
	}
	if len(steps) == 0 {
		a.ui.Note("nothing to do: this is set up already")
		return nil
	}
	for _, t := range texts {
		a.ui.Note("done: " + t)
	}
	a.ui.Next("dravit names")
	return nil
}
