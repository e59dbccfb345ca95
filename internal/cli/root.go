// Package cli holds Dravit's commands. A command reads its flags, makes one call into the core, and writes the result.
package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"dravit/internal/home"
	"dravit/internal/kind/all"
	"dravit/internal/stack"
	"dravit/internal/ui"
)

// Version is the version of Dravit.
const Version = "0.1.0"

// Exit codes, as docs/exit-codes.md lists them.
const (
	exitFailed      = 1   // something does not answer or failed
	exitUsage       = 2   // bad usage or bad stack file
	exitNoPlan      = 3   // no plan satisfies the stack file
	exitForbidden   = 4   // the machine forbids it
	exitRunFailed   = 125 // of run: Dravit itself failed, not the command
	exitInterrupted = 130
)

// app is the state that all commands share.
type app struct {
	dir   string
	name  string
	json  bool
	plain bool

	account string // the account to switch to if root runs Dravit
	yes     bool   // the user agreed beforehand

	ui    *ui.UI
	stdin *bufio.Reader // where answers come from, once there was a question
}

// Main runs the command line and returns the exit code.
func Main() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{}
	root := a.root()
	command, err := root.ExecuteContextC(ctx)
	if err == nil {
		return 0
	}
	var code exitCode
	if errors.As(err, &code) {
		return int(code)
	}
	f := explain(err)
	if ctx.Err() != nil {
		f = &ui.Failure{
			Exit:    exitInterrupted,
			What:    "interrupted",
			Because: "what this command started is stopped again",
		}
	}
	if a.ui == nil {
		a.ui = ui.New(a.plain)
	}
	if f.Exit == exitUsage && f.Next == "" {
		f.Next = command.CommandPath() + " --help"
	}
	if command.Name() == "run" && f.Exit != exitInterrupted {
		f.Exit = exitRunFailed
	}
	if a.json {
		_ = a.print(map[string]any{"format": 1, "error": f})
	} else {
		a.ui.Failure(f)
	}
	return f.Exit
}

// exitCode ends a command that has written its result already.
type exitCode int

func (c exitCode) Error() string { return fmt.Sprintf("exit code %d", int(c)) }

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "dravit",
		Short: "Bring up the servers that a web project needs, and prove that each answers",
		Long: `Dravit brings up the servers that a web project needs. It reads the project's stack file,
dravit.toml, looks at this machine, and decides which web server, runtime, database and helpers
fit. It starts them, and proves that each one answers.

Words that you will meet:
  stack     everything that one project needs, described in its dravit.toml
  part      one member of a stack: a server, a runtime or a helper, under a name of yours
  kind      what a part is: nginx, php, mariadb and so on
  site      one host name, such as ferry.localhost, with its document root or application
  plan      what Dravit decides for a stack, with the reasons
  ladder    the health check of a part or site; a rung is one step of it
  keeper    the one background process, which starts, watches and restarts the parts
  gateway   the reverse proxy that all sites of this machine are reached through
  ledger    which port and which host name belongs to which stack`,
		Example: `  dravit demo          a made-up ferry office, running, on any machine
  dravit propose       the stack file that this folder needs
  dravit plan          what would run here, and why
  dravit start         run it
  dravit check         prove that every part answers
  dravit diagnose      why something does not, and what to do`,
		Version:                    Version,
		SuggestionsMinimumDistance: 2,
		SilenceUsage:               true,
		SilenceErrors:              true,
		Args:                       noArgs,
		RunE:                       func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			a.ui = ui.New(a.plain || a.json)
			told := map[string]bool{}
			home.Recovered = func(file, used string, because error) {
				if !told[file] {
					told[file] = true
					a.ui.Note(file + " was " + map[bool]string{true: "gone", false: "damaged"}[because == nil ||
						errors.Is(because, fs.ErrNotExist)] + "; Dravit used " + used)
				}
			}
			home.Waits = func(holder string) { a.ui.Note("waiting for " + holder) }
			if cmd.HasParent() && cmd.Parent().Name() == "internal" {
				return nil
			}
			return a.ordinary(cmd)
		},
	}
	flags := root.PersistentFlags()
	flags.StringVarP(&a.dir, "dir", "C", ".", "work in this `folder` instead of the current one")
	flags.StringVar(&a.name, "stack", "", "work on the stack of this `name`, wherever its folder is")
	flags.BoolVar(&a.json, "json", false, "write one JSON object to standard output, and nothing else")
	flags.BoolVar(&a.plain, "plain", false, "use no colours, and repaint no line")
	flags.StringVar(&a.account, "account", "", "if root runs Dravit: switch to this ordinary `account`")
	flags.BoolVar(&a.yes, "yes", false, "agree to what Dravit would ask")
	wrapHelp(root)
	root.SetVersionTemplate(versionLine() + "\n")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error {
		return &ui.Failure{Exit: exitUsage, What: err.Error()}
	})
	a.addCommands(root)
	if len(os.Args) > 1 && slices.Contains([]string{cobra.ShellCompRequestCmd, cobra.ShellCompNoDescRequestCmd},
		os.Args[1]) {
		a.complete(root) // takes longer than many a command
	}
	return root
}

// addCommands adds all commands, in groups.
func (a *app) addCommands(root *cobra.Command) {
	root.AddGroup(&cobra.Group{ID: "look", Title: "Look"}, &cobra.Group{ID: "run", Title: "Run"},
		&cobra.Group{ID: "prove", Title: "Prove"},
		&cobra.Group{ID: "use", Title: "Use"}, &cobra.Group{ID: "machine", Title: "Machine"},
		&cobra.Group{ID: "learn", Title: "Learn"})
	add := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add("look", a.surveyCommand(), a.proposeCommand(), a.planCommand(), a.whyCommand())
	add("run", a.startCommand(), a.stopCommand(), a.restartCommand(), a.statusCommand(),
		a.logsCommand(), a.taskCommand())
	add("prove", a.checkCommand(), a.diagnoseCommand(), a.reportCommand())
	add("use", a.runCommand(), a.shellCommand(), a.envCommand(), a.dbCommand(), a.flushCommand(), a.mailCommand(),
		a.extensionsCommand())
	add("machine", a.namesCommand(), a.portsCommand(), a.supplyCommand(), a.removeCommand())
	add("learn", a.demoCommand(), a.schemaCommand(), a.versionCommand())
	root.SetCompletionCommandGroupID("learn")
	root.SetHelpCommandGroupID("learn")
	root.AddCommand(a.internalCommand())
}

// commandWords maps words that people type to the commands that they mean here.
var commandWords = map[string]string{
	"up": "start", "run-all": "start", "serve": "start", "boot": "start", "down": "stop", "halt": "stop",
	"kill": "stop", "list": "status",
	"ls": "status", "ps": "status", "info": "status", "show": "status", "log": "logs", "tail": "logs --follow",
	"exec": "run", "sh": "run -- sh",
	"doctor": "diagnose", "debug": "diagnose", "fix": "diagnose --fix", "test": "check", "verify": "check",
	"health": "check", "validate": "plan",
	"config": "plan", "explain": "why", "delete": "remove", "destroy": "remove", "rm": "remove",
	"uninstall": "remove", "reload": "restart",
	"hosts": "names hosts on", "trust": "names certificate on", "domains": "names", "urls": "names",
	"example": "demo", "init": "propose", "new": "propose", "detect": "propose", "create": "propose",
	"php": "run -- php", "mysql": "run -- mysql", "psql": "run -- psql",
	"environment": "env", "export": "env", "console": "shell",
	"import": "db load FILE", "backup": "db dump FILE", "snapshot": "db mark", "rollback": "db rewind",
	"database": "db", "sql": "db query SQL",
}

// noArgs refuses arguments, and suggests the command that was probably meant.
func noArgs(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	f := &ui.Failure{Exit: exitUsage, What: fmt.Sprintf("%s takes no %q", cmd.CommandPath(), args[0])}
	if !cmd.HasParent() {
		f.What = fmt.Sprintf("dravit has no command %q", args[0])
		if meant := commandWords[strings.ToLower(args[0])]; meant != "" {
			f.Because, f.Next = "here that is called "+meant, "dravit "+meant
		} else if below := commandBelow(cmd, args[0]); below != "" {
			f.Next = below
		} else if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
			f.Next = "dravit " + near[0]
		} else {
			f.Next = "dravit --help lists the commands"
		}
	}
	return f
}

// commandBelow returns the path of the first command of this name that stands below another one, as
// dravit db mark for mark. It is empty if there is none.
func commandBelow(root *cobra.Command, name string) string {
	for _, group := range root.Commands() {
		for _, cmd := range group.Commands() {
			if cmd.Name() == name && group.IsAvailableCommand() && cmd.IsAvailableCommand() {
				return cmd.CommandPath()
			}
		}
	}
	return ""
}

func (a *app) machine() (*stack.Machine, error) { return stack.NewMachine(all.Kinds(), Version) }

// stack returns the stack that the flags name.
func (a *app) stack() (*stack.Stack, error) {
	m, err := a.machine()
	if err != nil {
		return nil, err
	}
	return m.Find(a.dir, a.name)
}

// save writes a JSON object to a file that the user named.
func save(file string, v any) error {
	if err := home.WriteJSON(file, v); err != nil {
		return &ui.Failure{
			Exit:    exitUsage,
			What:    "the file " + file + " cannot be written",
			Because: err.Error(),
			Next:    "name a file in a folder that you may write to",
		}
	}
	return nil
}

// print writes a JSON object.
func (a *app) print(v any) error {
	var b strings.Builder
	out := json.NewEncoder(&b)
	out.SetIndent("", "  ")
	out.SetEscapeHTML(false)
	if err := out.Encode(v); err != nil {
		return err
	}
	_, err := io.WriteString(a.ui.Out, escaped(b.String()))
	return err
}

// escaped escapes the control characters that JSON leaves as they are (DEL and C1).
func escaped(text string) string {
	var b strings.Builder
	for _, r := range text {
		if r >= 0x7f && r < 0xa0 || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 {
			fmt.Fprintf(&b, "\\u%04x", r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}
