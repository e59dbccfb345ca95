// Package python is the kind for the Python runtime, for parts whose server is a command of the project.
package python

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"sync"

	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/pattern"
)

// New returns the kind.
func New() kind.Kind { return python{} }

type python struct {
	command.Base
	kind.RuntimeDefaults
}

var _ kind.Runtime = python{}

var traits = sync.OnceValue(func() *kind.Traits {
	t := command.Traits("python", "python3",
		[]string{"python", "python[23]", "python[23].[0-9]", "python[23].[0-9][0-9]"}, symptoms())
	t.Code = &kind.Code{Title: "a server in python", Ecosystem: "python", Manifest: "requirements.txt", Bare: true,
		Run: "python3", Entries: []string{"app.py", "server.py", "main.py", "wsgi.py"}, PackageOf: packageOf,
		Install: []kind.Installation{{There: ".venv",
			Command: "python3 -m venv .venv && .venv/bin/pip install -r requirements.txt"}}}
	return t
})

func (python) Traits() *kind.Traits { return traits() }

// Facts of a Python program, beside its version:
const (
	factABI  = "abi_tag" // cpython-311: what compiled modules are named after (PEP 3149)
	factVenv = "venv"    // yes, or what is missing for virtual environments
)

const ask = `import sys, sysconfig, json, platform
def has(name):
    try:
        __import__(name)
        return True
    except ImportError:
        return False
lacks = [n for n in ("venv", "ensurepip") if not has(n)]
soabi = sysconfig.get_config_var("SOABI") or ""
info = sys.version_info
version = "%d.%d.%d" % info[:3]
if info[3] != "final":
    version += info[3] + str(info[4])
print(json.dumps({
    "version": version,
    "soabi": soabi,
    "arch": platform.machine(),
    "executable": getattr(sys, "_base_executable", "") or sys.executable,
    "venv": "yes" if not lacks else "no " + ", ".join(lacks),
    "prefix": sys.prefix,
    "base": getattr(sys, "base_prefix", sys.prefix),
}))
`

func (python) Inspect(_ context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	out, err := run(path, "-E", "-s", "-c", ask)
	var v struct{ Version, SOABI, Arch, Executable, Venv, Prefix, Base string }
	if err == nil {
		err = json.Unmarshal([]byte(out), &v)
	}
	if err != nil || v.Version == "" {
		return "", nil, fmt.Errorf("no version in %q: %w", out, err)
	}
	if v.Prefix != v.Base {
		return "", nil, fmt.Errorf("%s belongs to a virtual environment", path)
	}
	abi := pattern.Of(`^[a-z]+-\d+[a-z]*`).FindString(v.SOABI)
	return v.Version, map[string]string{
		factABI:             abi,
		factVenv:            v.Venv,
		kind.FactArch:       kind.GoArch(v.Arch),
		kind.FactExecutable: v.Executable,
	}, nil
}

// Files puts this interpreter on the PATH of the part, under the names that commands use.
func (python) Files(p kind.Part) ([]kind.File, error) {
	return []kind.File{command.Tool("python", p.Program), command.Tool("python3", p.Program),
		command.Tool("pip", p.Program, "-m", "pip"), command.Tool("pip3", p.Program, "-m", "pip")}, nil
}

// Folders puts the project's virtual environment first, if this interpreter created it.
func (python) Folders(p kind.Part) []string {
	folders := []string{filepath.Join(p.Conf, "bin")}
	if env, ok := environment(p.Project, p.Want); ok && series(env.version) == series(p.Version) {
		folders = append([]string{filepath.Join(p.Project, env.dir, "bin")}, folders...)
	}
	return folders
}

// mailError matches what is left of a traceback after the frame of a module that sends mail, with the error.
const mailError = `, line \d+[^\n]*\n(?:[ \t][^\n]*\n){0,20}?((?:\w+\.)*\w*(?:Error|Refused|Timeout)\b[^\n]*)`

// symptoms match what Python writes, beside what any server of a project may write.
func symptoms() []kind.Symptom {
	return slices.Concat([]kind.Symptom{
		kind.When(cause.PackagesMissing, pattern.New(`ModuleNotFoundError: No module named '([^']*)'`),
			"the package $1 is not installed for this interpreter",
			"dravit run --part {part} -- python3 -m pip install $1, in the project's virtual environment"),
		kind.When(cause.ModuleOtherRuntime,
			pattern.New(`(?m)^ImportError: (.*undefined symbol.*|.*wrong ELF class.*)$`),
			"a compiled package was built for another Python: $1", "install it again for this one: dravit run --part "+
				"{part} -- python3 -m pip install --force-reinstall PACKAGE"),
		kind.When(cause.CodeMissing, pattern.New(`(?m)^ImportError: (cannot import name '[^']*' from '[^']*')`),
			"what the code imports does not exist: $1", "correct the import, or add what it names"),
		kind.When(cause.CodeMissing, pattern.New(`(?m)^(?:jinja2\.exceptions\.TemplateNotFound|`+
			`django\.template\.exceptions\.TemplateDoesNotExist): (\S+)`), "the template $1 does not exist",
			"correct its name, or add the file"),
		kind.When(cause.PackagesMissing, pattern.New(`(?m)^ImportError: (.*)$`), "$1",
			"install what is missing, in the project's virtual environment"),
		kind.When(cause.MailRefused, pattern.New(`django/core/mail/backends/smtp\.py"`+mailError), "mail is not "+
			"accepted: $1", `in Django's settings: EMAIL_HOST, EMAIL_PORT = os.environ["MAIL_HOST"], `+
			`int(os.environ["MAIL_PORT"])`),
		kind.When(cause.MailRefused, pattern.New(`smtplib\.py"`+mailError), "mail is not accepted: $1",
			command.ReadMail),
		kind.When(cause.ScriptSyntax, pattern.New(`(?m)^SyntaxError: (.*)$`), "Python finds a syntax error: $1",
			"correct it; dravit logs {part} shows the line"),
	}, command.Symptoms(), []kind.Symptom{
		kind.When(cause.ApplicationError, pattern.New(`File "([^"\n]+)", line (\d+)[^\n]*\n(?:    `+
			`[^\n]*\n){0,3}((?:\w+\.)*[A-Z]\w*(?:: [^\n]*)?)(?:\n|$)`), "the application exited with an error: "+
			"$3, at $1:$2", "correct it, then dravit start; dravit logs {part} has the rest"),
	})
}
