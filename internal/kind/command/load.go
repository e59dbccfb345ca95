package command

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"

	"dravit/internal/kind"
	"dravit/internal/locale"
)

// Load gives a dump to a client of the part's store, which is one of the programs that Clients returned. failure
// matches what the client says when it fails: its groups are the line of the dump and the server's words. The error
// names both.
func Load(ctx context.Context, p kind.Part, dump io.Reader, failure *regexp.Regexp,
	client string, args ...string) error {
	program := filepath.Join(p.Conf, "bin", client)
	if _, err := os.Stat(program); err != nil {
		return fmt.Errorf("the client %s is not installed", client)
	}
	source := &failing{from: dump}
	var said bytes.Buffer
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = source, io.Discard, &said
	cmd.Dir, cmd.Env = p.Temp, append(append([]string{}, p.Env...), "LC_ALL="+locale.UTF8())
	err := cmd.Run()
	switch {
	case source.err != nil && !errors.Is(source.err, syscall.EPIPE):
		return fmt.Errorf("the dump breaks off: %w", source.err)
	case err == nil:
		return nil
	}
	if m := failure.FindStringSubmatch(said.String()); m != nil {
		return fmt.Errorf("line %s: %s", m[1], strings.TrimSpace(m[2]))
	}
	return fmt.Errorf("%w: %s", err, strings.TrimSpace(said.String()))
}

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

// failing remembers the error of its source, other than its end.
type failing struct {
	from io.Reader
	err  error
}

func (f *failing) Read(p []byte) (int, error) {
	n, err := f.from.Read(p)
	if err != nil && !errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		f.err = err
	}
	return n, err
}
