package cli

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"

	"golang.org/x/term"

	"dravit/internal/starting"
	"dravit/internal/supply"
	"dravit/internal/ui"
)

// asks reports whether there is a user at a terminal to be asked.
func (a *app) asks() bool { return !a.json && term.IsTerminal(int(os.Stdin.Fd())) }

// agrees shows a text, which may be "", and asks the user, unless --yes was given. Without a user to ask, the answer is
// no. The error is the context's: Ctrl-C at a question is no answer.
func (a *app) agrees(ctx context.Context, text, question string) (bool, error) {
	if a.yes {
		return true, nil
	}
	return a.says(ctx, text, question)
}

// says is agrees where --yes is no answer.
func (a *app) says(ctx context.Context, text, question string) (bool, error) {
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

// asker asks for a start, and shows what takes long.
type asker struct{ *app }

var _ starting.Asker = asker{}

func (a asker) Present() bool    { return a.asks() }
func (a asker) Agreed() bool     { return a.yes }
func (a asker) Note(text string) { a.ui.Note(text) }

// Agree asks the user. For what opens this machine to others --yes is no answer.
func (a asker) Agree(ctx context.Context, q starting.Question) (bool, error) {
	question := q.Ask
	switch {
	case q.Fetch != nil:
		question = ui.FetchQuestion(q.Fetch)
	case q.Install != "":
		question = ui.InstallQuestion(q.Install)
	}
	if q.Opens {
		return a.says(ctx, q.About, question)
	}
	return a.agrees(ctx, q.About, question)
}

// Fetch shows how far a download is.
func (a asker) Fetch(o supply.Offer, get func(progress func(done int64)) error) error {
	meter := a.ui.Meter(ui.Fetching(o), a.json)
	defer meter.End()
	return get(func(done int64) { meter.Show(done, o.Bytes) })
}

// Install runs a command at this terminal.
func (a asker) Install(ctx context.Context, command string) error {
	words := strings.Fields(command)
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stderr, os.Stderr
	return cmd.Run()
}
