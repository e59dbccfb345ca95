package command

import (
	"os"
	"path/filepath"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/shell"
)

// clientFolders are where clients of a store are looked for, if they are not beside its server.
var clientFolders = []string{"/usr/local/bin", "/usr/bin", "/opt/homebrew/bin"}

// Clients returns small programs with the names of a store's own clients. They connect to the part without options.
// body is shell text that runs before the client; PROGRAM in it stands for the client's path. Clients that are not
// installed are left out.
func Clients(server, body string, names ...string) []kind.File {
	folders := append([]string{
		filepath.Dir(server),
		filepath.Join(filepath.Dir(filepath.Dir(server)), "bin"),
	}, clientFolders...)
	var files []kind.File
	for _, name := range names {
		for _, folder := range folders {
			program := filepath.Join(folder, name)
			if info, err := os.Stat(program); err != nil || !info.Mode().IsRegular() {
				continue
			}
			text := "#!/bin/sh\n" + strings.ReplaceAll(body, "PROGRAM", shell.Quote(program)) + "\n"
			files = append(files, kind.File{Name: "bin/" + name, Text: text, Mode: 0o700})
			break
		}
	}
	return files
}
