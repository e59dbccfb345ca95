package stack

import (
	"os"
	"path/filepath"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// Editor is what an editor has to know about a stack: which programs run its code, and where its databases are. It
// holds no password.
type Editor struct {
	Format   int             `json:"format"`
	Stack    string          `json:"stack"`
	Runtimes []EditorRuntime `json:"runtimes"`
	Stores   []EditorStore   `json:"stores"`
}

// EditorRuntime is a program that runs the project's code.
type EditorRuntime struct {
	Part    string `json:"part"`
	Kind    string `json:"kind"`
	Version string `json:"version"`
	// Program is the command-line program with the part's settings and extensions.
	Program string `json:"program"`
	// Debugger is nil if the part has none that is on.
	Debugger *EditorDebugger `json:"debugger"`
}

// EditorDebugger is where the editor waits for the runtime's debugger. The paths that the debugger names are those of
// the project's own files.
type EditorDebugger struct {
	Name string `json:"name"` // of the extension
	Host string `json:"host"`
	Port int    `json:"port"`
}

// EditorStore is a database, a cache or a queue.
type EditorStore struct {
	Part     string `json:"part"`
	Kind     string `json:"kind"`
	Version  string `json:"version"`
	Host     string `json:"host,omitempty"`
	Port     int    `json:"port,omitempty"`
	Socket   string `json:"socket,omitempty"`
	Database string `json:"database,omitempty"` // a name, or the path of a file
	User     string `json:"user,omitempty"`
	// PasswordIn is the variable of the stack's environment that has the password. "": there is none.
	PasswordIn string `json:"password_in,omitempty"`
}

// Editor describes the stack as its last start left it.
func (s *Stack) Editor() (Editor, error) {
	out := Editor{Format: 1, Stack: s.Name, Runtimes: []EditorRuntime{}, Stores: []EditorStore{}}
	spec, err := s.spec()
	if err != nil {
		return out, err
	}
	if spec.ID == "" {
		return out, ErrNeverStarted
	}
	for _, p := range spec.Parts {
		k := s.Kinds.Of(p.Kind)
		t := k.Traits()
		switch {
		case t.Interpreter != "":
			x := EditorRuntime{Part: p.Name, Kind: p.Kind, Version: p.Version, Program: interpreter(p, t.Interpreter)}
			if p.Debug != 0 {
				x.Debugger = &EditorDebugger{Name: t.Debugger, Host: kind.Host, Port: p.Debug}
			}
			out.Runtimes = append(out.Runtimes, x)
		case p.Role.Store() && !t.Pages:
			out.Stores = append(out.Stores, editorStore(p, k.Exports(p)))
		}
	}
	return out, nil
}

// interpreter returns the program that the part's commands run under a name: the first one on the part's PATH.
func interpreter(p kind.Part, name string) string {
	for _, folder := range p.Path {
		file := filepath.Join(folder, name)
		if info, err := os.Stat(file); err == nil && info.Mode().IsRegular() && info.Mode().Perm()&0o111 != 0 {
			return file
		}
	}
	return p.Program
}

func editorStore(p kind.Part, e kind.Exports) EditorStore {
	x := EditorStore{Part: p.Name, Kind: p.Kind, Version: p.Version, Port: p.Port, Socket: p.Socket,
		Database: p.Database, User: p.User}
	if p.Port != 0 {
		x.Host = p.HostName()
	}
	if e.Database != "" {
		x.Database = e.Database
	}
	if e.NoLogin {
		x.User = ""
	} else if p.Password != "" {
		x.PasswordIn = stackfile.EnvPrefix(p.Name) + "_PASSWORD"
	}
	return x
}
