package survey

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/account"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
)

// Named is the name of a command for which PATH may pick the wrong program: several have the name, or other terminals
// have another PATH.
type Named struct {
	Name   string  `json:"name"`
	Picked *Found  `json:"picked"`          // the file that PATH picks, null if there is none
	Hidden []Found `json:"hidden"`          // of the same name, further back on PATH or not on it at all
	Login  string  `json:"login,omitempty"` // the file that a login shell picks, if it is another one
}

// Whole surveys the machine with every known command-line program, with what PATH picks and hides, and with what the
// user may do.
func (m Machine) Whole(ctx context.Context) (Survey, error) {
	all := map[string]stackfile.Require{}
	for _, name := range Known() {
		all[name] = stackfile.Require{}
	}
	s, err := m.Look(ctx, all)
	if err != nil {
		return s, err
	}
	s.Tools = slices.DeleteFunc(s.Tools, func(t Tool) bool { return len(t.Found) == 0 })
	l := m.look()
	s.Names = l.names(s, m.loginPath(ctx))
	a := allowed(ctx, m.Home)
	s.Allowed = &a
	return s, ctx.Err()
}

// names returns the names for which PATH may pick the wrong program.
func (l *looker) names(s Survey, login string) []Named {
	names := map[string]bool{}
	for _, t := range s.Tools {
		names[t.Name] = true
	}
	byPath := map[string]kind.Program{}
	for _, p := range s.Programs {
		names[filepath.Base(p.Path)] = true
		byPath[p.Path] = p
	}
	var out []Named
	for name := range names {
		n := Named{Name: name, Hidden: []Found{}}
		found := l.named(name)
		if i := slices.IndexFunc(s.Tools, func(t Tool) bool { return t.Name == name }); i >= 0 {
			found = s.Tools[i].Found
		}
		for i, f := range found {
			if p, ok := byPath[f.Path]; ok {
				f.Version = p.Version
			}
			if i == 0 && f.OnPath {
				n.Picked = &f
				continue
			}
			n.Hidden = append(n.Hidden, f)
		}
		if login != "" {
			if other := first(l.Root, login, name); other != "" &&
				(n.Picked == nil || l.real(other) != l.real(n.Picked.Path)) {
				n.Login = other
			}
		}
		if n.Picked != nil && len(n.Hidden) > 0 || n.Login != "" {
			out = append(out, n)
		}
	}
	slices.SortFunc(out, func(a, b Named) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// first returns the first program of a name on a PATH.
func first(root, path, name string) string {
	for _, dir := range filepath.SplitList(path) {
		if file := filepath.Join(dir, name); filepath.IsAbs(dir) && executable(root+file) {
			return file
		}
	}
	return ""
}

// loginPath asks the user's shell for the PATH of a new terminal. It returns "" if the shell does not say.
func (m Machine) loginPath(ctx context.Context) string {
	shell := cmp.Or(os.Getenv("SHELL"), "/bin/sh")
	if m.Root != "" || !filepath.IsAbs(shell) {
		return ""
	}
	me := account.Current().Username
	env := []string{"HOME=" + m.Home, "USER=" + me, "LOGNAME=" + me, "SHELL=" + shell, "TERM=dumb"}
	out, err := ask(ctx, env, shell, "-l", "-c", `echo "dravit-path=$PATH="`)
	if found := pattern.Of(`(?m)^dravit-path=(.*)=$`).FindStringSubmatch(out); err == nil && found != nil {
		return found[1]
	}
	return ""
}
