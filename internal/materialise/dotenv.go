package materialise

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"dravit/internal/home"
	"dravit/internal/plan"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// dotenvHead is the first line of a file that Dravit wrote. Dravit overwrites no other file.
const dotenvHead = "# Written by dravit start, which writes it anew. It holds secrets: keep it out of the repository.\n"

// writeDotenv writes the variables that the stack file asks for. A value is in single quotes, which every reader of
// such files takes literally. A value with a single quote in it is in double quotes, with backslashes before the
// characters that mean something there.
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
		if strings.ContainsAny(value, "'\n") {
			value = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`", "\n",
				`\n`).Replace(value) + `"`
		} else {
			value = "'" + value + "'"
		}
		b.WriteString(name + "=" + value + "\n")
	}
	if string(old) == b.String() {
		return nil
	}
	return home.WriteFile(file, []byte(b.String()), 0o600)
}
