package keeper

import (
	"context"
	"fmt"
	"hash/fnv"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/materialise"
)

// happened is what can be seen of a site without asking its application: if it is the same as when the site was proved,
// nothing has happened that a proof would show.
type happened struct {
	failed    int64  // requests that failed, as the gateway counts them; -1: it does not say
	processes string // of the parts behind the site
	files     uint64 // a digest of the project's files: their names, sizes and times
}

// happened looks at a site.
func (s *stackRunner) happened(ctx context.Context, spec materialise.Spec, site materialise.Site) happened {
	h := happened{failed: -1}
	asked, err := health.AskGateway(ctx, kind.Loopback(spec.HTTPPort), site.Host)
	if err == nil && asked.Site == site.Name {
		h.failed = asked.Failed
	}
	s.mu.Lock()
	for _, name := range behind(spec, site) {
		if p, ok := s.parts[name]; ok {
			h.processes += fmt.Sprintf("%s %+v %s ", name, p.found.Identity, p.found.Own+p.config)
		}
	}
	s.mu.Unlock()
	h.files = digestOf(projectOf(spec), site.Root)
	return h
}

// projectOf returns the folder of the stack's project, or "".
func projectOf(spec materialise.Spec) string {
	if len(spec.Parts) == 0 {
		return ""
	}
	return spec.Parts[0].Project
}

const (
	mostFiles   = 500 // that are looked at below a folder
	deepestFile = 3   // folders below it
)

// busyFolders hold what programs write while they run, or what is too much to look at: changes there are no edits.
var busyFolders = map[string]bool{"node_modules": true, "vendor": true, "var": true, "storage": true, "tmp": true,
	"temp": true, "cache": true, "log": true, "logs": true, "__pycache__": true, "uploads": true, "data": true,
	"target": true, "dist": true, "build": true, "bower_components": true, "sessions": true}

// digestOf returns a digest of the files of a project that people edit, as far as a quick look at their names, sizes
// and times tells: the first ones of the project, and those of the document root.
func digestOf(folders ...string) uint64 {
	sum := fnv.New64a()
	for _, folder := range folders {
		if folder == "" {
			continue
		}
		left := mostFiles
		_ = filepath.WalkDir(folder, func(path string, e fs.DirEntry, err error) error {
			if left == 0 {
				return filepath.SkipAll
			}
			if err != nil { // a folder that this user may not read
				return filepath.SkipDir
			}
			name := e.Name()
			hidden := strings.HasPrefix(name, ".") && !strings.HasPrefix(name, ".env")
			if path != folder && (hidden || e.IsDir() && busyFolders[name]) {
				if e.IsDir() {
					return filepath.SkipDir
				}
				return nil
			}
			left--
			info, err := e.Info()
			if err != nil || strings.HasSuffix(name, ".log") || strings.Contains(name, ".sqlite") ||
				strings.HasSuffix(name, ".db") || strings.HasSuffix(name, "-journal") {
				return nil
			}
			if info.Mode()&fs.ModeSymlink != 0 {
				if to, err := os.Stat(path); err == nil {
					info = to
				}
			}
			if e.IsDir() { // its own time also changes with what is left out
				fmt.Fprintf(sum, "%s/\n", path)
				if strings.Count(strings.TrimPrefix(path, folder), "/") >= deepestFile {
					return filepath.SkipDir
				}
				return nil
			}
			fmt.Fprintf(sum, "%s %d %d\n", path, info.Size(), info.ModTime().UnixNano())
			return nil
		})
	}
	return sum.Sum64()
}
