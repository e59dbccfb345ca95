package ui

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/extensions"
	"dravit/internal/kind"
	"dravit/internal/plan"
	"dravit/internal/stack"
)

// Extensions writes the extensions of a stack's runtimes.
func (u *UI) Extensions(x stack.Extensions) {
	u.say(u.bold(x.Stack) + "  " + plural(len(x.Parts), "runtime"))
	for i, p := range x.Parts {
		if i > 0 {
			u.say("")
		}
		u.partExtensions(p)
	}
	if len(x.Parts) == 0 {
		u.say(u.dim("the stack has no runtime with extensions"))
	}
	u.say("")
	switch {
	case len(x.Parts) == 0:
		u.Next("dravit plan")
	case !x.Parts[0].Proved && x.Parts[0].Unproved != "":
		u.Next("dravit start; then dravit extensions shows what is really loaded")
	default:
		u.Next("dravit extensions on NAME, dravit extensions off NAME")
	}
}

func (u *UI) partExtensions(p extensions.Report) {
	head := fmt.Sprintf("%s  %s %s  %s", u.bold(p.Part), p.Kind, p.Version, p.Program)
	if api := p.Facts["extension_api"]; api != "" {
		head += u.dim("  " + api)
	}
	u.say(head)
	by := map[kind.EntryState][]kind.Entry{}
	for _, e := range p.Entries {
		by[e.State] = append(by[e.State], e)
	}
	if len(p.Entries) == 0 {
		u.say(u.dim("  the project has no compiled extensions or packages"))
	}
	for _, state := range []kind.EntryState{kind.BuiltIn, kind.Loads, kind.Available} {
		var names []string
		for _, e := range by[state] {
			names = append(names, e.Name)
		}
		if len(names) == 0 {
			continue
		}
		word := string(state)
		for i, l := range wrap(strings.Join(names, ", "), Width()-13) {
			if i > 0 {
				word = ""
			}
			u.say(fmt.Sprintf("  %s  %s", u.dim(fmt.Sprintf("%-9s", word)), strings.TrimSpace(l)))
		}
	}
	for _, state := range []kind.EntryState{kind.Misfit, kind.Lacking} {
		for _, g := range alike(by[state]) {
			label := u.paint(yellow, fmt.Sprintf("%-9s", state))
			for i, l := range wrap(strings.Join(g.names, ", "), Width()-13) {
				if i > 0 {
					label = strings.Repeat(" ", 9)
				}
				u.say("  " + label + "  " + strings.TrimSpace(l))
			}
			for _, l := range wrap(g.why, Width()-15) {
				u.say("             " + u.dim(l))
			}
		}
	}
	switch {
	case p.Proved && len(p.Differences) == 0:
		u.say("  " + u.paint(green, "proved") +
			"     the web process and the command-line program have loaded the same extensions, as planned")
	case p.Unproved != "":
		u.say("  " + u.dim("not proved  "+p.Unproved))
	}
	where := map[bool]string{true: "loaded", false: "not loaded"}
	for _, d := range p.Differences {
		u.say(fmt.Sprintf("  %s  %s: %s in the web process, %s on the command line", u.paint(red, "differs  "), d.Name,
			where[d.Web], where[d.Command]))
	}
	if d := p.Debugger; d != nil {
		state := u.paint(green, "live")
		if !d.Live {
			state = u.paint(yellow, "not proved")
		}
		u.say("  " + u.dim("debugger ") + "  " + state + ": " + d.Because)
		u.say("             " + u.dim(fmt.Sprintf("in the editor: listen on %s port %d; path mapping %s to %s", d.Host,
			d.Port, d.Local, d.Remote)))
		u.say("             " +
			u.dim("a request asks for it with XDEBUG_TRIGGER=1, as a cookie, in the address or in the environment"))
	}
}

// group are extensions with the same reason.
type group struct {
	names []string
	why   string
}

// alike groups extensions in one folder that fail for one reason.
func alike(entries []kind.Entry) []group {
	var all []group
	for _, e := range entries {
		why := e.Because
		if e.File != "" {
			why = "in " + filepath.Dir(e.File) + ": " + why
		}
		if i := slices.IndexFunc(all, func(g group) bool { return g.why == why }); i >= 0 {
			all[i].names = append(all[i].names, e.Name)
			continue
		}
		all = append(all, group{[]string{e.Name}, why})
	}
	return all
}

// Switched writes the result of switching an extension.
func (u *UI) Switched(s stack.Switched) {
	word := map[bool]string{true: "on", false: "off"}[s.On]
	switch {
	case s.Changed:
		u.say(u.bold(s.Stack) + "  " + s.Name + " is " + word + " in " + s.File + ", for part " + s.Part)
	default:
		u.say(u.bold(s.Stack) + "  " + s.Name + " was " + word + " already, for part " + s.Part)
	}
	if s.Now != "" {
		u.say("  runtime       " + s.Now + u.dim(", before it was "+s.Was+"; dravit why "+s.Part+".version tells why"))
	}
	loaded := map[bool]string{true: "loaded", false: "not loaded"}
	if s.Runs {
		colour := green
		if s.Web != s.On || s.Command != s.On {
			colour = red
		}
		u.say("  web process   " + u.paint(colour, loaded[s.Web]))
		u.say("  command line  " + u.paint(colour, loaded[s.Command]))
		if s.Because != "" {
			u.say("  " + u.dim("it is loaded all the same: "+s.Because))
		}
		u.Next("dravit extensions")
		return
	}
	u.Next("dravit start; then dravit extensions shows whether it is loaded")
}

// Why writes one decision.
func (u *UI) Why(d plan.Decision) {
	u.say(u.bold(d.Subject.String()) + "  " + d.Choice)
	for _, b := range d.Because {
		for _, l := range wrap("because "+b, Width()-2) {
			u.say("  " + l)
		}
	}
	for _, r := range d.Rejected {
		for i, l := range wrap("not "+r.Option+": "+r.Because, Width()-4) {
			if i > 0 {
				l = "  " + l
			}
			u.say("  " + u.dim(l))
		}
	}
}

// Subjects writes everything that was decided.
func (u *UI) Subjects(p plan.Plan) {
	u.say(u.bold(p.Stack) + "  " + plural(len(p.Subjects()), "decision"))
	var rows []row
	for _, s := range p.Subjects() {
		choice := "no plan"
		for _, d := range p.Decisions {
			if d.Subject == s {
				choice = d.Choice
			}
		}
		rows = append(rows, row{cells: []string{s.String(), choice}})
	}
	u.table([]string{"subject", "choice"}, rows)
	u.say("")
	u.Next("dravit why SUBJECT")
}
