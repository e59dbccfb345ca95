package ruby

import (
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
)

// Scan finds out for which Ruby the native extensions of the project's gems were built: their folders say so
// (vendor/bundle/ruby/3.1.0/extensions/x86_64-linux/3.1.0/bcrypt-3.1.18).
func (ruby) Scan(project string, _ stackfile.PartConfig) []kind.Module {
	quoted := pattern.Literal(project)
	dirs, _ := filepath.Glob(filepath.Join(quoted, "vendor", "bundle", "ruby", "*", "extensions", "*", "*", "*"))
	slices.Sort(dirs)
	var all []kind.Module
	for _, dir := range dirs {
		rel, err := filepath.Rel(project, dir)
		name := filepath.Base(dir)
		if i := strings.LastIndexByte(name, '-'); i > 0 {
			name = name[:i]
		}
		if err == nil {
			all = append(all, kind.Module{
				Kind:  "ruby",
				Name:  name,
				File:  rel,
				Built: strings.TrimSuffix(filepath.Base(filepath.Dir(dir)), "-static"),
			})
		}
	}
	return all
}

// Extend decides which of the project's gems fit.
func (ruby) Extend(_ stackfile.PartConfig, p kind.Program, l *kind.Library) kind.Extended {
	return command.Judge("ruby", p.Facts[factABI], "Ruby ABI", p, l)
}

func (ruby) List(_ kind.Program, e kind.Extended, _ *kind.Library) []kind.Entry {
	return command.List(e)
}

// Build says what native extensions of gems are built for.
func (ruby) Build(p kind.Program, _ []kind.Module) []string {
	return p.Words([2]string{"ABI %s", factABI}, [2]string{"%s", kind.FactArch})
}
