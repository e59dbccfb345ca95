package repository

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/launch"
	"dravit/internal/shell"
	"dravit/internal/supply"
)

// realSuffix is the ending of a program's name behind the script that starts it.
const realSuffix = ".real"

// startsFile lists the programs of a tree that scripts start.
const startsFile = "starts.json"

// Start is a program of a tree that a script starts.
type Start struct {
	Path   string `json:"path"`   // of the script, in the tree; the program is beside it
	Loader string `json:"loader"` // in the tree
	Target string `json:"target"` // if the program is a link: the one that it points to, in the tree
	// Named: the loader can tell the program that it is the script, so that it finds itself again.
	Named       bool   `json:"named"`
	Interpreter string `json:"interpreter,omitempty"` // the command on PATH that runs it; "": none
}

// makeWay puts a program aside for the script that starts it.
func (s Start) makeWay(files string) error {
	file := filepath.Join(files, s.Path)
	if s.Target == "" {
		return os.Rename(file, file+realSuffix)
	}
	target, err := filepath.Rel(path.Dir(s.Path), s.Target+realSuffix)
	if err != nil {
		return err
	}
	return errors.Join(os.Remove(file), os.Symlink(target, file+realSuffix))
}

// programsOf returns the programs of a tree, and links to them, as they tell what they do by their name.
func programsOf(files string, all []binary, counts func(path string) bool) ([]Start, error) {
	loaders := map[string]string{}
	for _, b := range all {
		if b.loader == "" || !counts(b.path) || strings.Contains(path.Base(b.path), ".so") {
			continue // some libraries can be started, too
		}
		loader, err := placeOf(strings.TrimPrefix(b.loader, "/"))
		if err != nil || !exists(filepath.Join(files, loader)) {
			continue
		}
		loaders[b.path] = loader
	}
	var starts []Start
	err := filepath.WalkDir(files, func(file string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		name, err := filepath.Rel(files, file)
		if err != nil {
			return err
		}
		start := Start{Path: name, Loader: loaders[name]}
		if e.Type() == fs.ModeSymlink {
			start.Target = real(files, name)
			start.Loader = loaders[start.Target]
		}
		if start.Loader != "" {
			starts = append(starts, start)
		}
		return nil
	})
	return starts, err
}

// inTree returns texts of kind.Packages for a tree. A * in one stands for what is there.
func inTree(texts []string, files, dir, series string) []string {
	var out []string
	for _, text := range texts {
		text = kind.InSeries(text, series)
		before, shape, ok := strings.Cut(text, "{tree}/")
		if ok {
			found, _ := filepath.Glob(filepath.Join(files, shape)) // the pattern is well-formed
			if len(found) > 0 {
				shape, _ = filepath.Rel(files, found[0])
			}
			text = before + filepath.Join(dir, "files", shape)
		}
		out = append(out, text)
	}
	return out
}

// scripts is what the scripts of a tree are written from.
type scripts struct {
	tree   *supply.Tree
	self   string   // the dravit program that they start, by namespace
	args   []string // come first in the scripts of programs whose name
	argsOf string   // begins with this
	env    []string

	envUnset []string // where a program is started without it
}

// write writes the scripts that start the tree's programs in the tree's way.
func (x scripts) write(starts []Start) error {
	t := x.tree
	files := filepath.Join(t.Dir, "files")
	var search []string
	for _, folder := range libraries(files) {
		search = append(search, filepath.Join(files, folder))
	}
	for _, start := range starts {
		script := x.script(start, strings.Join(search, ":"))
		if err := home.WriteFile(filepath.Join(files, start.Path), []byte(script), 0o755); err != nil {
			return err
		}
	}
	return nil
}

// script returns the script that starts a program.
func (x scripts) script(start Start, search string) string {
	t := x.tree
	files := filepath.Join(t.Dir, "files")
	byLoader := func(program string, more ...string) []string {
		words := append([]string{filepath.Join(files, start.Loader), "--library-path", search}, more...)
		return append(words, program)
	}
	program := filepath.Join(files, start.Path+realSuffix)
	var words []string
	switch {
	case start.Interpreter != "":
		words = append(append([]string{start.Interpreter}, x.args...), program)
	case t.Way == supply.ByLoader && start.Named:
		words = byLoader(program, "--argv0", filepath.Join(files, start.Path))
	case t.Way == supply.ByLoader:
		words = byLoader(program)
	case t.Way == supply.ByNamespace:
		words = append(byLoader(filepath.Join(files, unshare)), "--user", "--map-current-user", "--keep-caps",
			"--mount", "--", x.self, "internal", LaunchCommand, t.Dir, start.Path)
	}
	if x.argsOf != "" && strings.HasPrefix(path.Base(start.Path), x.argsOf) {
		words = append(words, x.args...)
	}
	for i, w := range words {
		words[i] = shell.Quote(w)
	}
	text := "#!/bin/sh\n# Dravit made this: it starts a program with its own libraries.\n"
	if t.Way != supply.ByNamespace {
		text += "[ -e /" + bundleFile + " ] || export SSL_CERT_FILE=\"${SSL_CERT_FILE:-" +
			filepath.Join(files, bundleFile) + "}\"\n"
		for _, variable := range x.env {
			text += "export " + shell.Quote(variable) + "\n"
		}
		for _, variable := range x.envUnset {
			name, _, _ := strings.Cut(variable, "=")
			text += "[ \"${" + name + "+set}\" ] || export " + shell.Quote(variable) + "\n"
		}
	}
	return text + "exec " + strings.Join(words, " ") + " \"$@\"\n"
}

// unshare is the program that makes namespaces, in a tree.
const unshare = "usr/bin/unshare"

// LaunchCommand is the hidden command by which Dravit starts a program inside a tree's namespace.
const LaunchCommand = "launch"

// Launch replaces this process with a program of a tree, which sees the tree in place of the system's folders. The
// process is alone in its mount namespace. It returns only an error.
func Launch(dir, program string, args []string) error {
	var starts []Start
	if err := home.ReadJSON(filepath.Join(dir, startsFile), &starts); err != nil {
		return err
	}
	see := launch.Tree{Files: filepath.Join(dir, "files"), Root: filepath.Join(dir, "root"),
		Replace: map[string]string{}}
	for _, start := range starts {
		see.Replace[start.Path] = start.Path + realSuffix
	}
	return launch.Exec(see, "/"+program, args, os.Environ())
}
