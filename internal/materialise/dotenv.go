package materialise

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/confined"
	"dravit/internal/environment"
	"dravit/internal/home"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// dotenvHead is the first line of a file that Dravit wrote. Without keys, Dravit overwrites no other file.
const dotenvHead = "# Written by dravit start, which writes it anew. It holds secrets: keep it out of the repository.\n"

// maxDotenv is how many bytes a project's own file of variables may have.
const maxDotenv = 1 << 20

// writeDotenv writes the stack's variables to the file that the stack file names. A file of the project's own is only
// kept up to date: a task of the start may be the one that creates it.
func writeDotenv(dir string, d *stackfile.Dotenv, env []string) error {
	if d == nil {
		return nil
	}
	if d.Keys != nil {
		if err := checkKeys(d, env); err != nil {
			return err
		}
		return KeepDotenv(dir, d, env, false)
	}
	file := filepath.Join(dir, d.File)
	old, err := os.ReadFile(file)
	if err == nil && !strings.HasPrefix(string(old), dotenvHead) {
		return &trouble.Trouble{
			Code:    trouble.ForeignFile,
			Subject: about.Dotenv,
			What:    "the stack's variables were not written",
			Because: d.File + " is there already, and Dravit did not write it",
			Next: fmt.Sprintf("dotenv = { file = %q, keys = [...] } keeps single lines of it up to date; or name "+
				"another file", d.File),
		}
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	var b strings.Builder
	b.WriteString(dotenvHead)
	for _, v := range env {
		name, value, _ := strings.Cut(v, "=")
		b.WriteString(name + "=" + environment.DotenvQuote(value) + "\n")
	}
	if string(old) == b.String() {
		return nil
	}
	return home.WriteFile(file, []byte(b.String()), 0o600)
}

// checkKeys returns an error if the stack has no variable of a name that the stack file lists.
func checkKeys(d *stackfile.Dotenv, env []string) error {
	var missing, there []string
	for _, v := range env {
		name, _, _ := strings.Cut(v, "=")
		there = append(there, name)
	}
	for _, key := range d.Keys {
		if !slices.Contains(there, key) {
			missing = append(missing, key)
		}
	}
	if missing == nil {
		return nil
	}
	return &trouble.Trouble{
		Code:    trouble.BadStackFile,
		Subject: about.Dotenv,
		What:    fmt.Sprintf("dotenv names %s, which is no variable of the stack", strings.Join(missing, " and ")),
		Because: "the variables are " + trouble.List(there),
		Next:    "name one of these, or define it: [env] in " + stackfile.Name,
	}
}

// KeepDotenv brings the lines of the keys in a project's own file up to date, and leaves its other lines alone. It does
// nothing if d is nil or has no keys. A file that is missing is written only if create is true.
func KeepDotenv(dir string, d *stackfile.Dotenv, env []string, create bool) error {
	if d == nil || d.Keys == nil {
		return nil
	}
	file, mode := filepath.Join(dir, d.File), fs.FileMode(0o600)
	old, err := confined.ReadFile(dir, d.File, maxDotenv, "/") // the plan has refused what leads out of the project
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if !create {
			return nil
		}
	case err != nil:
		return &trouble.Trouble{Code: trouble.ForeignFile, Subject: about.Dotenv, Err: err,
			What: d.File + " was not brought up to date", Because: err.Error(), Next: "look at " + d.File}
	default:
		if file, err = filepath.EvalSymlinks(file); err != nil { // a link stays one
			return err
		}
		info, err := os.Stat(file)
		if err != nil {
			return err
		}
		mode = info.Mode().Perm()
	}
	var vars []string
	for _, key := range d.Keys {
		i := slices.IndexFunc(env, func(v string) bool { return strings.HasPrefix(v, key+"=") })
		if i >= 0 {
			vars = append(vars, env[i])
		}
	}
	text := environment.SetDotenv(string(old), vars)
	if err == nil && text == string(old) {
		return nil
	}
	return home.WriteFile(file, []byte(text), mode)
}
