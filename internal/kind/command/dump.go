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

	"dravit/internal/kind"
	"dravit/internal/locale"
)

// Dump writes what a client of the part's store prints. The first client of names that is installed is run.
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
	return fmt.Errorf("the client %s is not installed", names[0])
}
