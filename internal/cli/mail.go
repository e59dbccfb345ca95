package cli

import (
	"time"

	"github.com/spf13/cobra"

	"dravit/internal/kind"
	"dravit/internal/stack"
)

type mailsJSON struct {
	Format int         `json:"format"`
	Stack  string      `json:"stack"`
	Mails  []kind.Mail `json:"mails"`
}

type mailJSON struct {
	Format int       `json:"format"`
	Stack  string    `json:"stack"`
	Mail   kind.Mail `json:"mail"`
}

func (a *app) mailCommand() *cobra.Command {
	var part string
	var filter stack.MailFilter
	c := &cobra.Command{
		Use:   "mail",
		Short: "List the mails that the stack sent, or wait for one",
		Long: `Mail lists what the stack's mail catcher (dravit-mail) has caught, the newest first. Mail wait waits
for a mail and prints it, for tests. --to takes a recipient's address, --subject a part of the subject.`,
		Example: `  dravit mail
  dravit mail --to ada@quay.example
  dravit mail wait --subject 'Your booking' --timeout 5s --json`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			mails, err := s.Mails(cmd.Context(), part, filter)
			if err != nil {
				return err
			}
			if a.json {
				return a.print(mailsJSON{1, s.Name, append([]kind.Mail{}, mails...)})
			}
			a.ui.Mails(mails)
			return nil
		},
	}
	c.PersistentFlags().StringVar(&part, "part", "", "the mail catcher's `part`, if there are several")
	c.PersistentFlags().StringVar(&filter.To, "to", "", "only mails to this `address`")
	c.PersistentFlags().StringVar(&filter.Subject, "subject", "", "only mails with this `text` in the subject")
	c.AddCommand(a.mailWaitCommand(&part, &filter))
	return c
}

func (a *app) mailWaitCommand(part *string, filter *stack.MailFilter) *cobra.Command {
	var patience time.Duration
	var fresh bool
	c := &cobra.Command{
		Use:   "wait",
		Short: "Wait for a mail, and print it",
		Long: `Wait waits until a mail is there that fits, and prints the newest. A mail that came before counts, unless
you say --new. If none comes in time, the exit code is 1.`,
		Example: `  dravit mail wait --to ada@quay.example --subject 'Your booking'
  dravit mail wait --new --timeout 30s --json | jq -r .mail.text`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.stack()
			if err != nil {
				return err
			}
			if fresh {
				filter.Since = time.Now().UTC().Truncate(time.Millisecond)
			}
			m, err := s.WaitForMail(cmd.Context(), *part, *filter, patience)
			if err != nil {
				return err
			}
			if a.json {
				return a.print(mailJSON{1, s.Name, m})
			}
			a.ui.Mail(m)
			return nil
		},
	}
	c.Flags().DurationVar(&patience, "timeout", 10*time.Second, "how long to wait")
	c.Flags().BoolVar(&fresh, "new", false, "only mails that come from now on")
	return c
}
