package node

import (
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/confined"
	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/objfile"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
)

// Scan reads the native modules of the project's packages (nodejs.org, "C++ addons"): those that were built in place.
func (node) Scan(project string, want stackfile.PartConfig) []kind.Module {
	var all []kind.Module
	for _, dir := range want.Above("node_modules") {
		for _, shape := range []string{"*", "@*/*"} {
			files, _ := filepath.Glob(filepath.Join(pattern.Literal(filepath.Join(project, dir)), shape,
				"build", "Release", "*.node"))
			for _, file := range files {
				all = append(all, read(project, file))
			}
		}
	}
	slices.SortFunc(all, func(a, b kind.Module) int { return strings.Compare(a.File, b.File) })
	return all
}

// read returns what a native module was built for. A module with the stable interface (Node-API) fits every Node.js. Of
// the others, some name the ABI in a symbol, and the rest in a file that their build leaves beside them.
func read(project, file string) kind.Module {
	rel, err := filepath.Rel(project, file)
	m := kind.Module{Kind: "node", Name: strings.TrimSuffix(filepath.Base(file), ".node"), File: rel}
	if err != nil {
		m.Fault = err.Error()
		return m
	}
	if _, err := confined.Stat(project, rel); err != nil {
		m.Fault = err.Error()
		return m
	}
	f, err := objfile.Open(file)
	if err != nil {
		m.Fault = err.Error()
		return m
	}
	m.Arch = f.Arch
	for _, s := range f.Defined {
		if abi, ok := strings.CutPrefix(s, "node_register_module_v"); ok {
			m.Built = abi
		}
	}
	if slices.Contains(f.Defined, "napi_register_module_v1") ||
		slices.Contains(f.Wanted, "napi_module_register") || m.Built != "" {
		return m
	}
	text, _ := confined.ReadFile(project, filepath.Join(filepath.Dir(filepath.Dir(rel)), "config.gypi"), 1<<20)
	if found := pattern.Of(`"node_module_version":\s*"?(\d+)`).FindSubmatch(text); found != nil {
		m.Built = string(found[1])
	}
	return m
}

// Extend decides which of the project's native modules fit.
func (node) Extend(_ stackfile.PartConfig, p kind.Program, l *kind.Library) kind.Extended {
	return command.Judge("node", p.Facts[factABI], "module ABI", p, l)
}

func (node) List(_ kind.Program, e kind.Extended, _ *kind.Library) []kind.Entry {
	return command.List(e)
}

// Build names the two interfaces that native modules are built for.
func (node) Build(p kind.Program, _ []kind.Module) []string {
	return p.Words([2]string{"module ABI %s", factABI}, [2]string{"Node-API %s", factNAPI},
		[2]string{"%s", kind.FactArch})
}
