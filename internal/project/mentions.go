package project

import (
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"dravit/internal/confined"
)

// Mention is a line of a file of the project that contains a word.
type Mention struct {
	File string // relative to the project
	Line int
	Word string
	Text string // the line
}

const (
	mostConfigs   = 4000      // files that are looked at
	longestConfig = 256 << 10 // bytes of one
	mostMentions  = 10
)

// configEndings are those of files in which applications keep their configuration.
var configEndings = []string{".php", ".ini", ".yml", ".yaml", ".json", ".toml", ".conf", ".cfg", ".xml", ".py", ".rb",
	".js", ".cjs", ".mjs", ".ts", ".properties", ".neon", ".env", ".local", ".config"}

// packages are folders with the code of others, and what programs write.
var packages = []string{"node_modules", "vendor", "bower_components", "__pycache__", "venv", "cache", "logs", "log",
	"tmp", "dist", "build"}

// Mentions returns the lines of the project's configuration and code that contain one of some words as a word of its
// own: a port, a host, a name. Stack files and the locks of package managers are left out. It opens regular files only
// and follows no link.
func Mentions(dir string, words []string) []Mention {
	var quoted []string
	for _, w := range words {
		if w != "" {
			quoted = append(quoted, regexp.QuoteMeta(w))
		}
	}
	if len(quoted) == 0 {
		return nil
	}
	word := regexp.MustCompile(`(?:^|[^\w.])(` + strings.Join(quoted, "|") + `)(?:[^\w.]|\.?$)`)
	var out []Mention
	left := mostConfigs
	_ = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if left == 0 || len(out) >= mostMentions {
			return filepath.SkipAll
		}
		if err != nil { // a folder that this user may not read
			return filepath.SkipDir
		}
		name := e.Name()
		if e.IsDir() {
			if path != dir && (slices.Contains(packages, name) || strings.HasPrefix(name, ".")) {
				return filepath.SkipDir
			}
			return nil
		}
		config := slices.Contains(configEndings, filepath.Ext(name)) || strings.HasPrefix(name, ".env")
		if !config || strings.HasPrefix(name, "dravit.") || strings.Contains(name, "lock") {
			return nil
		}
		left--
		file, _ := filepath.Rel(dir, path) // it is below
		text, err := confined.ReadFile(dir, file, longestConfig)
		if err != nil {
			return nil
		}
		for i, line := range strings.Split(string(text), "\n") {
			if m := word.FindStringSubmatch(line); m != nil && len(out) < mostMentions {
				out = append(out, Mention{file, i + 1, m[1], strings.TrimSpace(line)})
			}
		}
		return nil
	})
	return out
}
