package ui

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"dravit/internal/health"
	"dravit/internal/lifecycle"
	"dravit/internal/requests"
	"dravit/internal/stack"
	"dravit/internal/supervise"
	"dravit/internal/trouble"
)

// reachable writes what other machines may reach.
func (u *UI) reachable(all []stack.Reach) {
	for _, r := range all {
		who := "the site " + r.Site
		if r.Site == "" {
			who = "part " + r.Part
		}
		at := strings.Join(r.URLs, " ")
		if at == "" {
			at = fmt.Sprintf("port %d, but this machine has no network address now", r.Port)
		}
		text := "other machines can reach " + who + ": " + at
		switch {
		case !r.Open:
			text = fmt.Sprintf("other machines cannot reach %s: no process of Dravit listens on "+
				"port %d; dravit ports %d",
				who, r.Port, r.Port)
		case !r.Agreed:
			text += "; you did not agree to that: make it listen on 127.0.0.1"
		}
		for _, l := range wrap(text, Width()) {
			if !r.Open || !r.Agreed {
				l = u.paint(yellow, l)
			}
			u.say(l)
		}
	}
	if len(all) == 0 {
		u.say(u.dim("reachable from this machine only"))
	}
}

// Status writes what the keeper sees of a stack.
func (u *UI) Status(s stack.Status) {
	u.say(u.bold(s.Name) + "  " + u.state(s.State))
	now := time.Now()
	var rows []row
	for _, p := range s.Parts {
		proved := "-"
		if !p.ProvedAt.IsZero() && p.State != lifecycle.Stopped {
			proved = duration(now.Sub(p.ProvedAt)) + " ago"
		}
		var n []string
		if p.Because != "" {
			n = append(n, p.Because)
		}
		if p.Restarts > 0 {
			n = append(n, "restarted "+plural(p.Restarts, "time"))
		}
		if x := p.LastExit; x != nil && p.State != lifecycle.Stopped {
			ran := time.Duration(x.RanMS) * time.Millisecond
			n = append(n, duration(now.Sub(x.At))+" ago, after "+duration(ran)+": "+x.How)
		}
		if p.Next != "" {
			n = append(n, "next: "+p.Next)
		}
		if r, ok := s.Runs[p.Name]; ok && p.State != lifecycle.Stopped {
			n = append(n, runs(r, now))
		}
		rows = append(rows, row{[]string{p.Name, p.Kind, version(p), u.partState(p), dash(p.PID),
			dash(p.Port), megabytes(p.Memory), proved}, n})
	}
	if len(rows) > 0 {
		u.table([]string{"part", "kind", "version", "state", "pid", "port", "memory", "answered"}, rows, 4, 5, 6, 7)
	}
	if len(s.Sites) > 0 {
		u.say("")
		rows = nil
		for _, x := range s.SiteStates {
			proved := "-"
			if !x.ProvedAt.IsZero() && x.State != lifecycle.Stopped {
				proved = duration(now.Sub(x.ProvedAt)) + " ago"
			}
			var n []string
			if x.Because != "" {
				n = append(n, x.Because)
			}
			rows = append(rows, row{[]string{x.Name, x.URL, u.state(x.State), proved}, n})
		}
		u.table([]string{"site", "address", "state", "answered"}, rows, 3)
	}
	for _, t := range s.Failed {
		u.say("")
		name := printable(t.Name)
		if !strings.HasPrefix(name, "seed of ") {
			name = "task " + name
		}
		u.say(name + "  " + u.state(lifecycle.Failed) + "  " + u.dim(duration(now.Sub(t.At))+" ago"))
		for _, l := range wrap(printable(t.How), Width()-2) {
			u.say("  " + u.dim(l))
		}
	}
	u.failedPages(requests.Open(s.Failures, now))
	u.passedOver(s.Notes)
	u.say("")
	if s.State != lifecycle.Stopped {
		u.reachable(s.Reachable)
	}
	switch s.State {
	case lifecycle.Answers:
		u.Next("dravit check asks every part now")
	case lifecycle.Stopped:
		u.Next("dravit start")
	default:
		u.Next("dravit check shows which rung does not hold; dravit diagnose says why")
	}
}

// partState returns what the column of states shows for a part. Nothing is known of a server of somebody else's that is
// not asked.
func (u *UI) partState(p lifecycle.Status) string {
	if p.Outside != "" && p.State == lifecycle.Stopped {
		return "-"
	}
	return u.state(p.State)
}

// version returns what the column of versions shows for a part.
func version(p lifecycle.Status) string {
	if p.Outside != "" {
		return "outside"
	}
	return cmp.Or(p.Version, "-")
}

// runs says how a command that runs at intervals ran last, and when it runs next.
func runs(r supervise.Runs, now time.Time) string {
	text := "ran " + duration(now.Sub(r.At)) + " ago for " + duration(time.Duration(r.TookMS)*time.Millisecond) + ": " +
		cmp.Or(r.How, "done")
	if left := r.Next.Sub(now); left > 0 {
		return text + "; runs again in " + duration(left)
	}
	return text + "; runs now"
}

// Started writes the result of a start when all parts answer.
func (u *UI) Started(name string, s stack.Started, took time.Duration) {
	head := u.bold(name) + "  " + u.state(lifecycle.Answers)
	if len(s.Begun) == 0 {
		head += "  nothing to start: every part is running"
	} else {
		head += fmt.Sprintf("  %s started in %s", plural(len(s.Begun), "part"), duration(took))
	}
	u.say(head)
	var rows []row
	for _, site := range s.Sites {
		// What does not matter here is for names and check to say.
		asked := slices.DeleteFunc(slices.Clone(site.Rungs), func(r health.Result) bool {
			return r.Advisory && r.Holds != nil && !*r.Holds
		})
		rows = append(rows, row{cells: []string{site.Name, site.URL, u.dots(asked), sum(site.Rungs)}})
	}
	if len(rows) > 0 {
		u.table([]string{"site", "address", "rungs", "time"}, rows, 3)
	}
}

// Stopped writes what a stop has stopped.
func (u *UI) Stopped(name string, parts []lifecycle.Status) {
	if len(parts) == 0 {
		u.say(u.bold(name) + "  " + u.state(lifecycle.Stopped) + "  nothing was running")
		return
	}
	var names, others []string
	for _, p := range parts {
		if p.Outside != "" {
			others = append(others, p.Name)
			continue
		}
		names = append(names, p.Name)
	}
	slices.Sort(names)
	said := plural(len(names), "part") + " stopped"
	if len(names) > 0 {
		said += ": " + trouble.List(names) + "; data is kept"
	}
	if len(others) > 0 {
		slices.Sort(others)
		said += "; still there: " + trouble.List(others) + ", which Dravit does not run"
	}
	u.say(u.bold(name) + "  " + u.state(lifecycle.Stopped) + "  " + said)
}
