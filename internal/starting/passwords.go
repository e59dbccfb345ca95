package starting

import (
	"context"
	"strings"
	"unicode"

	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// passwords gets the passwords of servers outside the stack: from the user's environment, else from the user.
func passwords(ctx context.Context, s *Start) error {
	servers, err := s.Stack.OutsideServers(ctx)
	if err != nil {
		return err
	}
	s.Options.Passwords = map[string]string{}
	for _, x := range servers {
		password, given := s.Getenv(stackfile.PasswordVariable(x.Part))
		if !given && s.Ask.Present() && (!x.Known || x.Refusal != "") {
			if password, given, err = s.Ask.Password(ctx, x); err != nil {
				return err
			}
		}
		if !given {
			continue
		}
		if strings.ContainsFunc(password, unicode.IsControl) {
			return &trouble.Trouble{
				Code:    trouble.BadPassword,
				What:    "this cannot be the password of part " + x.Part,
				Because: "it has a control character in it, such as a line end",
				Next:    "give it again: " + stackfile.PasswordVariable(x.Part) + "=... dravit start",
			}
		}
		s.Options.Passwords[x.Part] = password
	}
	return nil
}
