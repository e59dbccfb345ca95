package project

import (
	"bytes"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"dravit/internal/confined"
)

// longestSQL is how much of a file with SQL is searched, in bytes.
const longestSQL = 32 << 20

// Creates returns, for some tables, a file of the project with SQL that creates it: the first one by its name. It opens
// regular files only and follows no link.
func Creates(dir string, tables []string) map[string]string {
	out := map[string]string{}
	if len(tables) == 0 {
		return out
	}
	left := mostConfigs
	_ = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return filepath.SkipDir
		}
		if e.IsDir() {
			if path != dir && (slices.Contains(packages, e.Name()) || strings.HasPrefix(e.Name(), ".")) {
				return filepath.SkipDir
			}
			return nil
		}
		if left--; left < 0 {
			return filepath.SkipAll
		}
		if filepath.Ext(path) != ".sql" {
			return nil
		}
		file, _ := filepath.Rel(dir, path) // it is below
		text, err := confined.ReadFile(dir, file, longestSQL)
		if err != nil || !bytes.Contains(bytes.ToUpper(text[:min(len(text), longestSQL)]), []byte("CREATE TABLE")) {
			return nil
		}
		for _, table := range tables {
			creates := regexp.MustCompile("(?i)create\\s+table\\s+(?:if\\s+not\\s+exists\\s+)?" +
				"(?:[`\"\\w]+\\.)?[`\"\\[]?" + regexp.QuoteMeta(table) + "[`\"\\]]?[\\s(]")
			if out[table] == "" && creates.Match(text) {
				out[table] = file
			}
		}
		return nil
	})
	return out
}
