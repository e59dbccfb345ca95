// Package examine gathers the facts about the parts, sites and disks of a stack that a diagnosis needs. It changes
// nothing.
package examine

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"dravit/internal/account"
	"dravit/internal/diagnose"
	"dravit/internal/gateway"
	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/logfile"
	"dravit/internal/materialise"
	"dravit/internal/proc"
	"dravit/internal/run"
)

// maxLogRead is how much of the end of a log is searched for causes, in bytes.
const maxLogRead = 256 << 10

// Part gathers the facts about a part. rungs are the results of a check just now.
func Part(ctx context.Context, kinds kind.List, p kind.Part, status lifecycle.Status,
	rungs []health.Result) diagnose.PartFacts {
	out := diagnose.PartFacts{Spec: p, Status: status, Rungs: rungs, LogFile: p.Log,
		Log: Log(p.Log, status.LogFrom), Program: true,
		Traits: *kinds.TraitsOf(p.Kind)}
	if p.Program != "" && p.Role != kind.RoleApp {
		_, err := os.Stat(p.Program)
		out.Program = err == nil
	}
	for _, site := range p.Sites {
		if site.Include != "" && p.Role == kind.RoleWeb {
			out.Included = append(out.Included, site.Include)
		}
	}
	if status.State == lifecycle.Answers {
		if p.Want.Worker() && p.Want.Interval() == 0 {
			out.Recent = recent(p.Log)
		}
		return out
	}
	out.Confined = Confinement("", status.PID, p.Program)
	if p.Data != "" {
		out.Data = examineTree(p.Data)
	}
	if p.Role == kind.RoleApp {
		out.Listens, _ = run.Seen(p).Listens() // if none is known, none is reported
	}
	out.Clients = Clients(ctx, kinds, p)
	return out
}

// recentLines is how many lines of a worker's log are looked at.
const recentLines = 2000

// recent returns the end of a log from the line on with which the keeper noted the last start of the part.
func recent(file string) []logfile.Line {
	lines, _, err := logfile.TailAt(file, recentLines)
	if err != nil {
		return nil
	}
	for i, l := range slices.Backward(lines) {
		if strings.HasPrefix(l.Text, "dravit: ") && strings.HasSuffix(l.Text, " is started") {
			return lines[i+1:]
		}
	}
	return lines
}

// Clients asks a store which clients are connected to it. It returns nil if the part is none that knows, or does not
// say.
func Clients(ctx context.Context, kinds kind.List, p kind.Part) *diagnose.Clients {
	k, ok := kinds.Of(p.Kind).(kind.Store)
	if !ok || !k.Traits().Accounts || !run.Of(p).Offers().Accounts {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, health.Deadline)
	defer cancel()
	sessions, limit, setting, err := k.Sessions(ctx, p)
	if err != nil {
		return nil
	}
	who, _ := proc.Clients(p.Port) // clients without a known process are counted, too
	groups := map[int]diagnose.ClientGroup{}
	for _, s := range sessions {
		holder := who[s.Port]
		g := groups[holder.PID]
		g.PID, g.Program = holder.PID, holder.Program
		g.Count++
		g.Idle = max(g.Idle, s.Idle)
		groups[holder.PID] = g
	}
	return &diagnose.Clients{Limit: limit, Setting: setting, Groups: slices.Collect(maps.Values(groups))}
}

// Log returns what a log holds from an offset on, at most its last maxLogRead bytes.
func Log(file string, offset int64) string {
	text, _ := logfile.Since(file, offset, maxLogRead)
	return text
}

// maxEntries is how many files of a data folder are examined.
const maxEntries = 5000

// examineTree searches a folder for files that its owner cannot use.
func examineTree(dir string) *diagnose.Tree {
	t := &diagnose.Tree{Path: dir}
	seen := 0
	_ = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil && t.Locked == "" && errors.Is(err, fs.ErrPermission) {
			t.Locked = path
		}
		if e == nil {
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return nil
		}
		if stat, ok := info.Sys().(*syscall.Stat_t); ok && int(stat.Uid) != os.Geteuid() && t.Foreign == "" {
			t.Foreign, t.Owner = path, account.NameOf(int(stat.Uid))
		}
		need := fs.FileMode(0o600)
		if info.IsDir() {
			need = 0o700
		}
		if info.Mode().Type()&fs.ModeSymlink == 0 && info.Mode().Perm()&need != need && t.Locked == "" {
			t.Locked = path
		}
		if seen++; seen > maxEntries {
			return fs.SkipAll
		}
		return nil
	})
	return t
}

// Gateway reports whether the gateway runs, and which other process holds its port.
func Gateway(h *home.Home, spec materialise.Spec) diagnose.Gateway {
	door := gateway.Seen(h)
	g := diagnose.Gateway{Runs: door.Alive(), Port: spec.HTTPPort}
	address := kind.Loopback(spec.HTTPPort)
	if owns, err := door.Owns("tcp", address); err == nil && !owns {
		if holder := proc.PortHolder(address); holder != (proc.Holder{}) {
			g.Holder = holder.String()
		}
	}
	return g
}
