// Package ruby is the kind for the Ruby runtime, for parts whose server is a command of the project.
package ruby

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/pattern"
)

// New returns the kind.
func New() kind.Kind { return ruby{} }

type ruby struct {
	command.Base
	kind.RuntimeDefaults
}

var _ kind.Runtime = ruby{}

var traits = sync.OnceValue(func() *kind.Traits {
	t := command.Traits("ruby", "ruby", []string{"ruby", "ruby[0-9].[0-9]", "ruby[0-9]"}, symptoms())
	t.Code = &kind.Code{Title: "a server in ruby", Ecosystem: "gem", Manifest: "Gemfile", Run: "ruby",
		Entries: []string{"app.rb", "server.rb", "main.rb"}, PackageOf: gemOf,
		Install: []kind.Installation{{There: "vendor/bundle", Command: "bundle install", Add: "bundle add"}}}
	return t
})

func (ruby) Traits() *kind.Traits { return traits() }

const factABI = "abi" // 3.1.0: what native extensions of gems are built for, and the folder that they are in

func (ruby) Inspect(_ context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	out, err := run(path, "--disable-gems", "-rrbconfig", "-e",
		`puts RUBY_VERSION, RbConfig::CONFIG["ruby_version"], RbConfig::CONFIG["arch"], RbConfig.ruby`)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	if err != nil || len(lines) != 4 {
		return "", nil, fmt.Errorf("no version in %q: %w", out, err)
	}
	return lines[0], map[string]string{
		factABI:             lines[1],
		kind.FactArch:       kind.GoArch(lines[2]),
		kind.FactExecutable: lines[3],
	}, nil
}

// Files puts ruby and its tools on the PATH of the part. This ruby runs the tools, whatever their first line says.
func (ruby) Files(p kind.Part) ([]kind.File, error) {
	files := []kind.File{command.Tool("ruby", p.Program)}
	for _, f := range command.Beside(p.Program, "gem", "bundle", "rake", "irb", "erb") {
		name := filepath.Base(f.Name)
		files = append(files, command.Tool(name, p.Program, filepath.Join(filepath.Dir(p.Program), name)))
	}
	return files, nil
}

// Folders also returns the folder of the project's binstubs (bundler.io, "bundle binstubs").
func (ruby) Folders(p kind.Part) []string {
	folders := []string{filepath.Join(p.Conf, "bin")}
	for _, dir := range p.Want.Above("bin") {
		folders = append(folders, filepath.Join(p.Project, dir))
	}
	return folders
}

// gemOf implements kind.Code: a gem has the name of its library, with a hyphen for each folder (guides.rubygems.org,
// "Name your gem").
func gemOf(library string) string {
	name := strings.ReplaceAll(library, "/", "-")
	if !pattern.Of(`^[a-z0-9][\w-]*$`).MatchString(name) {
		return ""
	}
	return name
}

// symptoms match what Ruby writes, beside what any server of a project may write.
func symptoms() []kind.Symptom {
	return slices.Concat([]kind.Symptom{
		kind.When(cause.ModuleOtherRuntime, pattern.New(`incompatible library version - (\S+)`),
			"the native extension $1 was built for another Ruby", "dravit run --part {part} -- bundle pristine"),
		kind.When(cause.PackagesMissing,
			pattern.New(`Could not find (?:gem )?'?(\S+?)'? .*in (?:any of the sources|locally installed gems)`),
			"the gem $1 is not installed for this Ruby", "dravit run --part {part} -- bundle install"),
		kind.When(cause.CodeMissing, pattern.New(`cannot load such file -- (\.{0,2}/[^\s:]+)`),
			"the file $1, which the code requires, does not exist",
			"correct the line that requires it, or add the file"),
		kind.When(cause.PackagesMissing, pattern.New(`cannot load such file -- ([^\s:]+)`),
			"the library $1 is not installed for this Ruby", "dravit run --part {part} -- bundle install"),
		kind.When(cause.CodeMissing, pattern.New(`NameError - uninitialized constant (\S+)|`+
			`uninitialized constant (\S+) \(NameError\)`), "the code uses the constant $1$2, which does not exist",
			"correct the name, or require the library that has it"),
		kind.When(cause.ScriptSyntax, pattern.New(`\.(?:rb|ru|erb):\d+: (syntax error[^\n]*)`), "Ruby finds a $1",
			"correct it; dravit logs {part} shows the line"),
	}, command.Symptoms(), []kind.Symptom{
		kind.When(cause.ApplicationError,
			pattern.New("(?m)^([^\\s:]+:\\d+):in [`'][^']*': ([^\\n]+ \\([A-Z]\\w*(?:::\\w+)*\\))$"),
			"the application exited with an error: $2, at $1",
			"correct it, then dravit start; dravit logs {part} has the rest"),
	})
}
