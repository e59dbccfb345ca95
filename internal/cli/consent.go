package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"strings"

	"golang.org/x/term"
)

// asks reports whether there is a user at a terminal to be asked.
func (a *app) asks() bool { return !a.json && term.IsTerminal(int(os.Stdin.Fd())) }

// agreesHere asks as agrees does, but --yes is no answer: it concerns what opens this machine to others.
func (a *app) agreesHere(ctx context.Context, text, question string) (bool, error) {
	x := *a
	x.yes = false
	agreed, err := x.agrees(ctx, text, question)
	a.stdin = x.stdin
	return agreed, err
}

// agrees shows a text, which may be "", and asks the user, unless --yes was given. Without a user to ask, the answer is
// no. The error is the context's: Ctrl-C at a question is no answer.
func (a *app) agrees(ctx context.Context, text, question string) (bool, error) {
	if a.yes {
		return true, nil
	}
	if !a.asks() {
		return false, nil
	}
	if text != "" {
		text += "\n"
	}
	fmt.Fprintf(a.ui.Err, "%s%s [y/N] ", text, question)
	answer := a.answer(ctx)
	return answer == "y" || answer == "yes", ctx.Err()
}

// answer returns what the user types, in lower case; "" after Ctrl-C.
func (a *app) answer(ctx context.Context) string {
	if a.stdin == nil {
		a.stdin = bufio.NewReader(os.Stdin)
	}
	answers := make(chan string, 1)
	go func() { // a read cannot be interrupted: after Ctrl-C it ends with the program
		line, _ := a.stdin.ReadString('\n')
		answers <- strings.ToLower(strings.TrimSpace(line))
	}()
	select {
	case answer := <-answers:
		return answer
	case <-ctx.Done():
		fmt.Fprintln(a.ui.Err)
		return ""
	}
}
