package ui

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"dravit/internal/kind"
	"dravit/internal/survey"
)

// Busy shows that something takes time, until the function that it returns is called.
func (u *UI) Busy(what string) (end func()) {
	if !u.live {
		return func() {}
	}
	stop, stopped := make(chan struct{}), make(chan struct{})
	began := time.Now()
	go func() {
		defer close(stopped)
		for {
			select {
			case <-stop:
				fmt.Fprint(u.Err, eraseLine())
				return
			case <-time.After(200 * time.Millisecond):
				fmt.Fprint(u.Err, eraseLine()+u.dim(fmt.Sprintf("%7s  %s", duration(time.Since(began)), what)))
			}
		}
	}()
	return func() { close(stop); <-stopped }
}

// SurveySections are the parts of a survey that can be shown alone, in their order.
var SurveySections = []string{"programs", "tools", "names", "ports", "user", "supply"}

// Survey writes the named sections of a survey, or all if none is named.
func (u *UI) Survey(s survey.Survey, kinds kind.List, sections ...string) {
	shows := func(name string) bool { return len(sections) == 0 || slices.Contains(sections, name) }
	shown := map[string]bool{}
	for _, p := range s.Programs {
		shown[p.Kind] = true
	}
	u.say(u.bold(s.Host.User) + fmt.Sprintf("  %s/%s  %s of %s, %s, %s held", s.Host.OS, s.Host.Arch,
		plural(len(s.Programs), "program"), plural(len(shown), "kind"),
		plural(len(s.Tools), "tool"), plural(len(s.Ports), "port")))
	var rows []row
	for _, p := range s.Programs {
		rows = append(rows, row{[]string{p.Kind, p.Version, p.Origin, p.Path}, buildNotes(p, kinds, s.Modules)})
	}
	switch {
	case !shows("programs"):
	case len(rows) > 0:
		u.table([]string{"kind", "version", "origin", "program"}, rows)
	default:
		u.say(u.dim("no server or runtime that Dravit knows; parts that are built into Dravit still work"))
	}
	if len(s.Tools) > 0 && shows("tools") {
		var words []string
		for _, t := range s.Tools {
			f := t.Found[0]
			const stuck = "\u00a0" // no line ends between a name and its version
			word := strings.TrimSuffix(t.Name+stuck+f.Version, stuck)
			if !f.OnPath {
				word += stuck + "(not" + stuck + "on" + stuck + "PATH)"
			}
			words = append(words, word)
		}
		u.say("")
		u.say(u.dim("tools"))
		for _, l := range wrap(strings.Join(words, ", "), Width()-2) {
			u.say("  " + strings.ReplaceAll(strings.Trim(l, " "), "\u00a0", " "))
		}
	}
	if shows("names") {
		u.named(s.Names)
	}
	if shows("ports") {
		u.heldPorts(s.Ports)
	}
	if s.Allowed != nil && shows("user") {
		u.allowed(s.Host, *s.Allowed)
	}
	if shows("supply") {
		u.suppliable(s.Supply, len(sections) > 0)
	}
	u.say("")
	if len(sections) == 0 {
		u.Next("dravit survey " + strings.Join(SurveySections, "|") + " shows one section; dravit plan decides")
	} else {
		u.Next("dravit plan")
	}
}

// suppliable writes what sources have. alone: nothing else is shown.
func (u *UI) suppliable(all []survey.Suppliable, alone bool) {
	if len(all) == 0 {
		if alone {
			u.say(u.dim("no source was asked yet; dravit supply php --dry-run does"))
		}
		return
	}
	var rows []row
	for i, x := range all {
		word := x.Version + " " + x.Suite
		if x.Suite == "" { // the last of a registry's releases in a row says where they are
			word = x.Version
			if i+1 == len(all) || all[i+1].Kind != x.Kind || all[i+1].Suite != "" {
				word += " npm"
			}
		}
		if i > 0 && all[i-1].Kind == x.Kind {
			rows[len(rows)-1].cells[1] += ", " + word
			continue
		}
		rows = append(rows, row{cells: []string{x.Kind, word}})
	}
	u.say("")
	u.table([]string{"kind", "what sources had when they were asked last"}, rows)
}

// buildNotes describes in one line what a program was built for, or in none if its kind has nothing to say.
func buildNotes(p kind.Program, kinds kind.List, modules []kind.Module) []string {
	runtime, ok := kinds.Of(p.Kind).(kind.Runtime)
	if !ok {
		return nil
	}
	if words := runtime.Build(p, modules); len(words) > 0 {
		return []string{strings.Join(words, ", ")}
	}
	return nil
}

// named writes the names for which PATH may pick the wrong program.
func (u *UI) named(names []survey.Named) {
	if len(names) == 0 {
		return
	}
	shown := func(f survey.Found) string {
		text := strings.TrimSpace(f.Version + " " + f.Path)
		if !f.OnPath {
			text += " (not on PATH)"
		}
		return text
	}
	var rows []row
	for _, n := range names {
		picks := "-"
		if n.Picked != nil {
			picks = shown(*n.Picked)
		}
		var notes []string
		if len(n.Hidden) > 0 {
			var hidden []string
			for i, f := range n.Hidden {
				if i == 4 && len(n.Hidden) > 5 {
					hidden = append(hidden, fmt.Sprintf("and %d more", len(n.Hidden)-i))
					break
				}
				hidden = append(hidden, shown(f))
			}
			notes = append(notes, "hides "+strings.Join(hidden, ", "))
		}
		if n.Login != "" {
			notes = append(notes, "a login shell picks "+n.Login)
		}
		rows = append(rows, row{[]string{n.Name, picks}, notes})
	}
	u.say("")
	u.table([]string{"name", "PATH picks"}, rows)
}

func (u *UI) heldPorts(ports []survey.Port) {
	if len(ports) == 0 {
		return
	}
	var rows []row
	for _, p := range ports {
		rows = append(rows, row{cells: []string{fmt.Sprint(p.Port), p.Protocol, p.Address, cmp.Or(p.Program, "-"),
			dash(p.PID), cmp.Or(p.User, "-"), cmp.Or(p.Stack, "-")}})
	}
	u.say("")
	u.table([]string{"port", "over", "address", "program", "pid", "user", "stack"}, rows, 0, 4)
}

func (u *UI) allowed(h survey.Host, a survey.Allowed) {
	u.say("")
	u.say(u.dim("this user"))
	line := func(what, text string) { u.say(fmt.Sprintf("  %-22s  %s", what, text)) }
	low := fmt.Sprintf("from %d upwards", h.LowestPort)
	if h.LowestPort <= 1 {
		low = "all of them"
	}
	line("ports to listen on", low)
	line("user namespaces", map[bool]string{true: "allowed", false: "not allowed"}[a.UserNamespaces])
	if len(a.Engines) == 0 {
		line("container engine", "none listens")
	}
	for _, e := range a.Engines {
		text := e.Socket + " answers, version " + e.Version
		if !e.Usable {
			text = e.Socket + " cannot be used: " + e.Because
		}
		line("container engine", text)
	}
	for _, name := range []string{"*.localhost", "*.test"} {
		text := "this machine, for every program"
		if !a.Resolves[name] {
			text = "unknown to the system's resolver"
			if name == "*.localhost" {
				text += "; browsers and curl know it"
			}
		}
		line(name, text)
	}
	line("free", fmt.Sprintf("disk %.0f GB, memory %.1f GB", float64(a.DiskFree)/1e9, float64(a.MemoryFree)/1e9))
}
