package stack

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dravit/internal/kind"
	"dravit/internal/proc"
	"dravit/internal/run"
	"dravit/internal/trouble"
)

// MailFilter says which messages are meant. Each field that is not zero has to hold.
type MailFilter struct {
	To      string // a recipient's address, in any case
	Subject string // a part of the subject, in any case
	Since   time.Time
}

func (f MailFilter) takes(m kind.Mail) bool {
	return (f.To == "" || slices.ContainsFunc(m.To, func(to string) bool { return strings.EqualFold(to, f.To) })) &&
		strings.Contains(strings.ToLower(m.Subject), strings.ToLower(f.Subject)) && !m.At.Before(f.Since)
}

// inbox returns the named mail catcher of the stack, or the only one.
func (s *Stack) inbox(name string) (kind.Inbox, kind.Part, error) {
	spec, err := s.spec()
	if err != nil {
		return nil, kind.Part{}, err
	}
	if spec.ID == "" {
		return nil, kind.Part{}, ErrNeverStarted
	}
	for _, p := range spec.Parts {
		k, ok := s.Kinds.Of(p.Kind).(kind.Inbox)
		if !ok || name != "" && p.Name != name {
			continue
		}
		if !run.Seen(p).Alive() {
			return nil, p, &trouble.Trouble{Code: trouble.NeverStarted,
				What:    "the mail catcher " + p.Name + " does not run",
				Because: "it is stopped, or has failed", Next: "dravit start"}
		}
		return k, p, nil
	}
	return nil, kind.Part{}, &trouble.Trouble{Code: trouble.NoPart, What: "the stack has no such mail catcher",
		Because: "none of its parts of that name is one", Next: "add a part of kind dravit-mail"}
}

// Mails returns the messages that a filter takes, the newest first, without their texts. part is the mail catcher, or
// "" for the only one.
func (s *Stack) Mails(ctx context.Context, part string, filter MailFilter) ([]kind.Mail, error) {
	k, p, err := s.inbox(part)
	if err != nil {
		return nil, err
	}
	all, err := k.Mails(ctx, p)
	return slices.DeleteFunc(all, func(m kind.Mail) bool { return !filter.takes(m) }), err
}

// WaitForMail waits until a message comes that a filter takes, and returns the newest with its texts.
func (s *Stack) WaitForMail(ctx context.Context, part string, filter MailFilter,
	patience time.Duration) (kind.Mail, error) {
	k, p, err := s.inbox(part)
	if err != nil {
		return kind.Mail{}, err
	}
	for end := time.Now().Add(patience); ; {
		all, err := s.Mails(ctx, part, filter)
		if err != nil {
			return kind.Mail{}, err
		}
		if len(all) > 0 {
			return k.Mail(ctx, p, all[0].ID)
		}
		if time.Now().After(end) {
			return kind.Mail{}, &trouble.Trouble{Code: trouble.NoMail, What: "no such mail came",
				Because: fmt.Sprintf("within %s, no mail came that fits", patience),
				Next:    "dravit mail lists those that came"}
		}
		if err := proc.Sleep(ctx, 50*time.Millisecond); err != nil {
			return kind.Mail{}, err
		}
	}
}
