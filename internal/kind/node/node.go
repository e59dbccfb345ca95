// Package node is the kind for the Node.js runtime, for parts whose server is a command of the project.
package node

import (
	"context"
	_ "embed"
	"encoding/json"
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
func New() kind.Kind { return node{} }

type node struct {
	command.Base
	kind.RuntimeDefaults
}

var _ kind.Runtime = node{}

var traits = sync.OnceValue(func() *kind.Traits {
	t := command.Traits("node", "node", []string{"node", "nodejs"}, symptoms())
	t.Carrier = kind.Carrier{Package: "node-{os}-{arch}", Program: "bin/node",
		With: []kind.Companion{{Package: "npm", Into: "lib/node_modules/npm",
			Runs: map[string]string{"npm": "bin/npm-cli.js", "npx": "bin/npx-cli.js"}}}}
	t.Code = &kind.Code{Title: "Node.js", Ecosystem: "npm", Manifest: "package.json", Run: "node",
		Entries: []string{"server.js", "app.js", "index.js", "server.mjs", "index.mjs",
			"src/server.js", "src/index.js", "src/app.js"},
		Scripts:   [][2]string{{"start", "npm start"}, {"serve", "npm run serve"}, {"dev", "npm run dev"}},
		ReadsPort: pattern.New(`process\.env\.PORT\b`),
		Build:     [2]string{"build", "npm run build"},
		PackageOf: packageOf,
		Install: []kind.Installation{
			{Lock: "package-lock.json", There: "node_modules", Command: "npm ci", Add: "npm install"},
			{Lock: "pnpm-lock.yaml", There: "node_modules", Command: "pnpm install --frozen-lockfile",
				Add: "pnpm add"},
			{Lock: "yarn.lock", There: "node_modules", Command: "yarn install --frozen-lockfile",
				Add: "yarn add"},
			{There: "node_modules", Command: "npm install", Add: "npm install"},
		}}
	t.System = map[string]string{
		"apt-get": "nodejs npm",
		"dnf":     "nodejs",
		"pacman":  "nodejs npm",
		"zypper":  "nodejs npm",
		"apk":     "nodejs npm",
		"brew":    "node",
	}
	return t
})

func (node) Traits() *kind.Traits { return traits() }

// Facts of a Node.js program, beside its version:
const (
	factABI  = "module_abi" // NODE_MODULE_VERSION: what native modules are built for
	factNAPI = "node_api"   // the stable interface, which does not depend on the ABI
)

func (node) Inspect(_ context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	out, err := run(path, "-p", "JSON.stringify({version: process.versions.node, abi: process.versions.modules, "+
		"napi: process.versions.napi, arch: process.arch, executable: process.execPath})")
	var v struct{ Version, ABI, NAPI, Arch, Executable string }
	if err == nil {
		err = json.Unmarshal([]byte(out), &v)
	}
	if err != nil || v.Version == "" {
		return "", nil, fmt.Errorf("no version in %q: %w", out, err)
	}
	return v.Version, map[string]string{
		factABI:             v.ABI,
		factNAPI:            v.NAPI,
		kind.FactArch:       kind.GoArch(v.Arch),
		kind.FactExecutable: v.Executable,
	}, nil
}

// Files puts node and its tools on the PATH of the part: npm looks for node there.
func (node) Files(p kind.Part) ([]kind.File, error) {
	return append(command.Beside(p.Program, "npm", "npx", "corepack", "yarn", "pnpm"),
		command.Tool("node", p.Program), kind.File{Name: loopback, Text: loopbackText, Mode: 0o600}), nil
}

// loopback is a module that every Node.js process of a part's command loads first. Servers that name no address listen
// on all of them (nodejs.org, "server.listen"), and most projects name none.
const loopback = "loopback.cjs"

//go:embed loopback.cjs
var loopbackText string

// Command has the part's servers listen on loopback, unless the user agreed to more.
func (n node) Command(p kind.Part) kind.Command {
	c := n.Base.Command(p)
	if p.Network || p.Want.Worker() {
		return c
	}
	quote := strings.NewReplacer(`\`, `\\`, `"`, `\"`)
	require := `--require="` + quote.Replace(filepath.Join(p.Conf, loopback)) + `"`
	for i, v := range c.Env {
		if own, ok := strings.CutPrefix(v, "NODE_OPTIONS="); ok {
			c.Env[i] = "NODE_OPTIONS=" + strings.TrimSpace(own+" "+require)
			return c
		}
	}
	c.Env = append(c.Env, "NODE_OPTIONS="+require)
	return c
}

// Folders also returns those of the programs that the project's packages bring (docs.npmjs.com, "folders").
func (node) Folders(p kind.Part) []string {
	folders := []string{filepath.Join(p.Conf, "bin")}
	for _, dir := range p.Want.Above("node_modules", ".bin") {
		folders = append(folders, filepath.Join(p.Project, dir))
	}
	return folders
}

// packageOf implements kind.Code (nodejs.org, "Modules: Packages"; docs.npmjs.com, "package.json: name").
func packageOf(module string) string {
	words := strings.Split(module, "/")
	name := words[0]
	if strings.HasPrefix(name, "@") && len(words) > 1 { // it has a scope
		name += "/" + words[1]
	}
	if !pattern.Of(`^(?:@[a-z0-9~-][a-z0-9._~-]*/)?[a-z0-9~-][a-z0-9._~-]*$`).MatchString(name) {
		return ""
	}
	return name
}

// symptoms match what Node.js writes, beside what any server of a project may write.
func symptoms() []kind.Symptom {
	return slices.Concat([]kind.Symptom{
		kind.When(cause.ModuleOtherRuntime,
			pattern.New(`The module '([^']*)'\s+was compiled against a different Node\.js version `+
				`using\s+NODE_MODULE_VERSION (\d+)\. This version of Node\.js requires\s+NODE_MODULE_VERSION (\d+)`),
			"the native module $1 was built for module ABI $2, and this Node.js has $3",
			"dravit run --part {part} -- npm rebuild"),
		kind.When(cause.ModuleOtherRuntime, pattern.New(`Module did not self-register: '([^']*)'`),
			"the native module $1 was built for another Node.js", "dravit run --part {part} -- npm rebuild"),
		kind.When(cause.CodeMissing, pattern.New(`Cannot find module '(\.{1,2}/[^']*|/[^']*)'`),
			"the file $1, which the code imports, does not exist", "correct the import, or add the file"),
		kind.When(cause.CodeMissing, pattern.New(`(does not provide an export named '[^']*'|`+
			`Failed to resolve import "\.{1,2}/[^"]*" from "[^"]*")`), "what the code imports does not exist: $1",
			"correct the import, or add what it names"),
		kind.When(cause.PackagesMissing, pattern.New(`Cannot find (?:module|package) '([^']*)'`),
			"the module $1 is not installed", "dravit run --part {part} -- npm install"),
		kind.When(cause.PackagesMissing, pattern.New(`Failed to resolve import "([^"]*)" from "[^"]*"`),
			"the module $1 is not installed", "dravit run --part {part} -- npm install"),
		kind.When(cause.MemoryLimit,
			pattern.New(`(JavaScript heap out of memory)`), "the server's memory is used up: $1",
			"node --max-old-space-size=MB in the part's command"),
		kind.When(cause.ScriptSyntax,
			// what the loader threw: JSON.parse and the like throw errors of that name, too
			pattern.New(`(?:^|\n)(SyntaxError: [^\n]+)\n\s+at [^\n]*node:internal/`),
			"the program has a syntax error: $1",
			"correct it; dravit logs {part} shows the line"),
	}, command.Symptoms(), []kind.Symptom{
		kind.When(cause.ForeignService, pattern.New(`TypeError: (fetch failed)`),
			"a request of the application's to another server failed, and the log does not say which: $1",
			"have the code log the error's cause (error.cause): it names the address and what is wrong there"),
		kind.When(cause.ApplicationError, pattern.New(`(?m)^(?:Uncaught )?((?:[A-Z]\w*)?Error(?: \[\w+\])?: `+
			`[^\n]+)\n\s+at [^\n(]*\(?([^()\n]+:\d+):\d+`), "the application exited with an error: $1, at $2",
			"correct it, then dravit start; dravit logs {part} has the rest"),
	})
}
