package postgres

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"dravit/internal/kind"
)

// Clean removes the lock files of the data folder and of the socket if their process is gone, a zombie, or another
// program by now. PostgreSQL itself only checks whether any process has the number (miscinit.c, CreateLockFile).
func (postgres) Clean(p kind.Part, runs func(pid int, name string) bool) error {
	for _, file := range []string{filepath.Join(p.Data, "postmaster.pid"), p.Socket + ".lock"} {
		text, err := os.ReadFile(file)
		if err != nil { // there is none, or the server will say why it cannot read it
			continue
		}
		line, _, _ := strings.Cut(string(text), "\n")
		pid, err := strconv.Atoi(strings.TrimSpace(line))
		if err == nil && runs(max(pid, -pid), "postgres") {
			continue // another server uses the data: this one must not
		}
		if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
