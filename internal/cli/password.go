package cli

import (
	"context"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"dravit/internal/stack"
)

// Password asks for the password of a server, without showing what is typed.
func (a asker) Password(ctx context.Context, x stack.OutsideServer) (password string, given bool, err error) {
	question, enter := fmt.Sprintf("Password of part %s, the %s server at %s", x.Part, x.Kind, x.Address), "none"
	if x.Refusal != "" {
		fmt.Fprintf(a.ui.Err, "The server of part %s refuses the log-in: %s\n", x.Part, x.Refusal)
		enter = "unchanged"
	}
	stdin := int(os.Stdin.Fd())
	before, err := term.GetState(stdin)
	if err != nil {
		return "", false, err
	}
	if err := hideTyping(stdin); err != nil { // before the question: somebody may type at once
		return "", false, err
	}
	defer func() { _ = term.Restore(stdin, before) }()
	fmt.Fprintf(a.ui.Err, "%s (Enter: %s): ", question, enter)
	type answer struct {
		text []byte
		err  error
	}
	answers := make(chan answer, 1)
	go func() { // a read cannot be interrupted: after Ctrl-C it ends with the program
		text, err := term.ReadPassword(stdin)
		answers <- answer{text, err}
	}()
	defer fmt.Fprintln(a.ui.Err)
	select {
	case read := <-answers:
		text := string(read.text)
		return text, x.Refusal == "" || text != "", read.err
	case <-ctx.Done():
		return "", false, ctx.Err()
	}
}

// hideTyping makes a terminal no longer show what is typed.
func hideTyping(terminal int) error {
	state, err := unix.IoctlGetTermios(terminal, getTermios)
	if err != nil {
		return err
	}
	state.Lflag &^= unix.ECHO
	return unix.IoctlSetTermios(terminal, setTermios, state)
}
