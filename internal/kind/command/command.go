// Package command is shared by custom, node, python and ruby: the project's command is the server.
package command

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/shell"
	"dravit/internal/stackfile"
)

// Base is embedded by such kinds.
type Base struct{ kind.Defaults }

// Traits returns the traits of a kind whose server is a command of the project. programs is nil if Dravit does not know
// which program runs the command.
func Traits(name, interpreter string, programs []string, symptoms []kind.Symptom) *kind.Traits {
	return &kind.Traits{
		Way:         kind.WaySupervised,
		Name:        name,
		Interpreter: interpreter,
		Role:        kind.RoleApp,
		Keys:        []string{"command", "port", "listens", "every", "processes", "proof", "writable", "patience"},
		Programs:    programs,
		Symptoms:    symptoms,
	}
}

func (Base) Needs(want stackfile.PartConfig) kind.Needs {
	if want.Worker() {
		return kind.Needs{}
	}
	return kind.Needs{Port: true, PortBase: 18000}
}

func (Base) Fit(want stackfile.PartConfig, _ kind.Program) string {
	if want.Command == "" {
		return "it needs a command: the one that starts the project's own server"
	}
	return ""
}

func (Base) Exports(p kind.Part) kind.Exports {
	if p.Want.Worker() {
		return kind.Exports{NoLogin: true}
	}
	return kind.Exports{URL: fmt.Sprintf("http://%s:%d", kind.Host, p.Port)}
}

// Command runs the text in a shell, in the project's folder. {port} stands for the port, and {dravit} for the dravit
// program.
func (Base) Command(p kind.Part) kind.Command {
	text := strings.NewReplacer("{port}", fmt.Sprint(p.Port), "{dravit}", shell.Quote(p.Self)).Replace(p.Want.Command)
	env := slices.Clone(p.Env)
	if !p.Want.Worker() {
		env = append(env, fmt.Sprintf("PORT=%d", p.Port), "HOST="+kind.Host)
	}
	return kind.Command{Path: "/bin/sh", Args: []string{"-c", text}, Dir: p.Project, Env: env,
		Stop: syscall.SIGTERM, Processes: max(1, p.Want.Processes),
		Every: p.Want.Interval()}
}

func (Base) Ladder(p kind.Part) []kind.Rung {
	if p.Want.Worker() {
		return workerLadder(p)
	}
	address := p.Address()
	if len(p.Sites) > 0 { // it speaks HTTP, as the gateway passes requests for its sites to it
		return health.HTTP(p, "tcp", address)
	}
	lower, _ := health.LowerRungs(p, "tcp", address)
	return lower
}

// Tool returns a small program under the name that a command calls, which runs another program.
func Tool(name, program string, args ...string) kind.File {
	text := "#!/bin/sh\nexec " + shell.Quote(program)
	for _, a := range args {
		text += " " + shell.Quote(a)
	}
	return kind.File{Name: "bin/" + name, Text: text + " \"$@\"\n", Mode: 0o700}
}

// Beside returns tools for the programs of these names in the folder of a runtime.
func Beside(program string, names ...string) []kind.File {
	var files []kind.File
	for _, name := range names {
		file := filepath.Join(filepath.Dir(program), name)
		if info, err := os.Stat(file); err == nil && info.Mode().IsRegular() {
			files = append(files, Tool(name, file))
		}
	}
	return files
}

// Judge decides which of the modules that a project brings fit a runtime. Those that were built for another one, or
// that are missing, are unfit. built is what this runtime's own modules are built for, and word what that is called. A
// module without Built fits every runtime.
func Judge(kindName, built, word string, p kind.Program, l *kind.Library) kind.Extended {
	var out kind.Extended
	for _, m := range l.Of(kindName) {
		c := kind.Choice{Name: m.Name, File: m.File}
		switch {
		case m.Fault != "":
			c.Because = m.Fault
		case m.Built != "" && built != "" && m.Built != built:
			c.Because = fmt.Sprintf("it was built for %s %s, and %s %s has %s", word, m.Built,
				kindName, p.Version, built)
		default:
			c.Because = "it fits " + strings.TrimSpace(word+" "+built)
			out.Chosen = append(out.Chosen, c)
			continue
		}
		out.Unfit = append(out.Unfit, c)
	}
	return out
}

// List lists the modules that a project brings for a runtime.
func List(e kind.Extended) []kind.Entry {
	var all []kind.Entry
	for _, c := range e.Chosen {
		all = append(all, kind.Entry{Name: c.Name, State: kind.Available, File: c.File, Because: c.Because})
	}
	for _, c := range e.Unfit {
		all = append(all, kind.Entry{Name: c.Name, State: kind.Misfit, File: c.File, Because: c.Because})
	}
	slices.SortFunc(all, func(a, b kind.Entry) int { return strings.Compare(a.Name, b.Name) })
	return all
}
