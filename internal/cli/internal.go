package cli

import (
	"errors"
	"fmt"
	"io"
	"net/mail"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"dravit/demo"
	"dravit/internal/gateway"
	"dravit/internal/keeper"
	"dravit/internal/kind/all"
	"dravit/internal/kind/dravitmail"
	"dravit/internal/supervise"
	"dravit/internal/supply/repository"
	"dravit/internal/ui"
)

// internalCommand groups the commands that Dravit runs itself: background processes and helpers of parts. None is for
// users.
func (a *app) internalCommand() *cobra.Command {
	group := &cobra.Command{Use: "internal", Hidden: true}
	group.AddCommand(
		&cobra.Command{Use: "keeper", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := a.machine()
			if err != nil {
				return err
			}
			program, err := os.Executable()
			if err != nil {
				return err
			}
			err = keeper.Run(cmd.Context(), m.Home, m.Kinds, program, filepath.Base(filepath.Dir(program)))
			if errors.Is(err, keeper.ErrRunning) {
				return nil // another command started a keeper first
			}
			return err
		}},
		&cobra.Command{Use: "gateway PORT SECURE", Args: cobra.ExactArgs(2),
			RunE: func(cmd *cobra.Command, args []string) error {
				m, err := a.machine()
				if err != nil {
					return err
				}
				port, err := strconv.Atoi(args[0])
				if err != nil {
					return err
				}
				secure, err := strconv.Atoi(args[1])
				if err != nil {
					return err
				}
				return gateway.Serve(cmd.Context(), m.Home, port, secure)
			}},
		&cobra.Command{Use: "serve KIND CONFIG", Args: cobra.ExactArgs(2),
			RunE: func(cmd *cobra.Command, args []string) error {
				serve := all.Kinds().TraitsOf(args[0]).Serve
				if serve == nil {
					return fmt.Errorf("%q is not built in", args[0])
				}
				return serve(cmd.Context(), args[1], all.Kinds())
			}},
		&cobra.Command{Use: "demo-pages", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			return demo.Serve(cmd.Context(), os.Getenv("HOST")+":"+os.Getenv("PORT"))
		}},
		&cobra.Command{Use: "demo-bookings", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			return demo.Bookings(cmd.Context())
		}},
		&cobra.Command{Use: "demo-mails", Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, _ []string) error {
			return demo.SendMails(cmd.Context())
		}},
		superviseCommand(),
		launchCommand(),
		a.sendmailCommand(),
	)
	return group
}

// launchCommand starts a program in the namespace of a supplied tree, in which it is already.
func launchCommand() *cobra.Command {
	return &cobra.Command{Use: repository.LaunchCommand + " TREE PROGRAM [ARGUMENT...]", DisableFlagParsing: true,
		Args: cobra.MinimumNArgs(2), RunE: func(_ *cobra.Command, args []string) error {
			return repository.Launch(args[0], args[1], args[2:])
		}}
}

func superviseCommand() *cobra.Command {
	tied, processes, every, record := false, 1, time.Duration(0), ""
	c := &cobra.Command{Use: "supervise LOCK -- COMMAND...", Args: cobra.MinimumNArgs(2),
		Run: func(_ *cobra.Command, args []string) {
			if every > 0 {
				supervise.Exit(supervise.Repeat(args[0], tied, every, record, args[1:]))
			}
			supervise.Exit(supervise.Run(args[0], tied, processes, args[1:]))
		}}
	c.Flags().BoolVar(&tied, "tied", false, "stop the command when the process that started this one dies")
	c.Flags().IntVar(&processes, "processes", 1, "run this `many` processes of the command")
	c.Flags().DurationVar(&every, "every", 0, "run the command once in this `time`, and not only once")
	c.Flags().StringVar(&record, "record", "", "with --every: the `file` to which the result of each run is written")
	return c
}

// sendmailCommand stands in for the sendmail program: PHP's mail() hands it a message.
func (a *app) sendmailCommand() *cobra.Command {
	var server, from string
	var headers, dots bool
	c := &cobra.Command{Use: "sendmail [RECIPIENT...]", RunE: func(_ *cobra.Command, to []string) error {
		text, err := io.ReadAll(os.Stdin)
		if err != nil {
			return err
		}
		if headers {
			found, err := dravitmail.Recipients(text)
			if err != nil {
				return &ui.Failure{
					Exit:    exitUsage,
					What:    "the message's recipients cannot be read",
					Because: err.Error(),
				}
			}
			to = append(to, found...)
		}
		if address, err := mail.ParseAddress(from); err == nil {
			from = address.Address
		}
		return dravitmail.Send(server, from, to, text)
	}}
	c.Flags().StringVar(&server, "to", "", "SMTP server")
	c.Flags().StringVarP(&from, "from", "f", "", "sender")
	c.Flags().BoolVarP(&headers, "headers", "t", false, "recipients from the message's headers")
	c.Flags().BoolVarP(&dots, "dots", "i", false, "a line with a dot alone does not end the message")
	return c
}
