package sqlite

import (
	"path/filepath"

	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/shell"
)

// Files returns a small program that runs sqlite3, which opens the part's database if no file is named.
func (sqlite) Files(p kind.Part) ([]kind.File, error) {
	body := "for word do\n  case \"$word\" in -*) ;; *) exec PROGRAM \"$@\" ;; esac\ndone\n" +
		"exec PROGRAM \"$@\" " + shell.Quote(path(p))
	return command.Clients("/usr/bin/sqlite3", body, "sqlite3"), nil
}

// Folders puts the client first on the PATH of the stack's commands.
func (sqlite) Folders(p kind.Part) []string { return []string{filepath.Join(p.Conf, "bin")} }
