package command

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/locale"
	"dravit/internal/trouble"
)

// Dump writes what a client of the part's store prints. The first client of names that is installed is run. If none is,
// the error is a *trouble.Trouble of code NoProgram.
func Dump(ctx context.Context, p kind.Part, to io.Writer, names []string, args ...string) error {
	for _, name := range names {
		program := filepath.Join(p.Conf, "bin", name)
		if _, err := os.Stat(program); err != nil {
			continue
		}
		var said bytes.Buffer
		cmd := exec.CommandContext(ctx, program, args...)
		cmd.Stdout, cmd.Stderr = to, &said
		cmd.Dir, cmd.Env = p.Temp, append(append([]string{}, p.Env...), "LC_ALL="+locale.UTF8())
		if err := cmd.Run(); err != nil {
			return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(said.String()))
		}
		return nil
	}
	return &trouble.Trouble{Code: trouble.NoProgram, Subject: about.Part(p.Name),
		What: "the client " + names[0] + " is not installed", Next: "install the package that has " + names[0] +
			" (of the same release as the server, if you can)"}
}
