package materialise

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"dravit/internal/environment"
	"dravit/internal/home"
	"dravit/internal/plan"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// dotenvHead is the first line of a file that Dravit wrote. Dravit overwrites no other file.
const dotenvHead = "# Written by dravit start, which writes it anew. It holds secrets: keep it out of the repository.\n"

// writeDotenv writes the stack's variables to the file that the stack file names.
func writeDotenv(in plan.Input, env []string) error {
	if in.File.Dotenv == "" {
		return nil
	}
	file := filepath.Join(in.Project.Dir, in.File.Dotenv)
	old, err := os.ReadFile(file)
	if err == nil && !strings.HasPrefix(string(old), dotenvHead) {
		return &trouble.Trouble{
			Code:    trouble.ForeignFile,
			Subject: "dotenv",
			What:    "the stack's variables were not written",
			Because: in.File.Dotenv + " is there already, and Dravit did not write it",
			Next:    "move " + in.File.Dotenv + " away, or name another file: dotenv in " + stackfile.Name,
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
