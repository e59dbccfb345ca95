package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/pattern"
	"dravit/internal/trouble"
)

// part finds out why a part does not answer.
func (d *doctor) part(p PartFacts) {
	name, subject, s := p.Spec.Name, about.Part(p.Spec.Name), p.Status
	if d.f.Stopped {
		return
	}
	switch s.State {
	case lifecycle.Answers:
		d.jobs(p)
		return
	case lifecycle.Stopped:
		c := d.add(likely, cause.Stopped, subject, "part "+name+" was stopped", "dravit start")
		c.Fix = []string{"dravit", "start"}
		return
	case lifecycle.Waiting:
		return // the part that it waits for is the cause
	case lifecycle.Unwell, lifecycle.Starting:
		for _, use := range p.Spec.Uses {
			if x, ok := d.partOf(use); ok && x.Status.State != lifecycle.Answers {
				return // so is the part that it cannot reach
			}
		}
	}
	if p.Spec.Outside != "" {
		d.outside(p, "it says: "+strings.TrimSpace(s.Because))
		return
	}
	d.machine(p)
	if d.clients(p) {
		return
	}
	d.ownPart(p)
}

// how says how something fails that lives: what came is wrong, or nothing came. fell may be nil.
func how(fell *health.Result) string {
	if fell != nil && fell.Silent {
		return "gives no answer in time"
	}
	return "answers wrongly"
}

// sinceItsExit returns a part's state with the cause of its process' last end if the next process has neither answered
// nor said anything yet: it will end the same way.
func sinceItsExit(s lifecycle.Status) lifecycle.Status {
	if x, ok := endedSince(s); ok && s.Code == "" && s.Because == "" {
		s.Code, s.Because = x.Cause, x.How
	}
	return s
}

// endedSince returns the last end of a part's process, if nothing has proved since then that the part works.
func endedSince(s lifecycle.Status) (x lifecycle.Exit, ok bool) {
	if s.LastExit == nil || !s.LastExit.At.After(s.ProvedAt) {
		return x, false
	}
	return *s.LastExit, true
}

// ownPart finds out why a part that Dravit runs does not answer.
func (d *doctor) ownPart(p PartFacts) {
	p.Status = sinceItsExit(p.Status)
	name, subject, s := p.Spec.Name, about.Part(p.Spec.Name), p.Status
	said := "it says: " + strings.TrimSpace(s.Because)
	switch {
	case s.Code == trouble.PortTaken:
		remedy := "dravit start, which uses another port"
		if p.Spec.Want.Port != 0 {
			remedy = fmt.Sprintf("free it (dravit ports %d), or pin another port in dravit.toml", p.Spec.Port)
		}
		d.add(seen, cause.PortTaken, subject, "another program uses the port of part "+name, remedy, said)
	case s.Code == trouble.Exposed:
		d.add(seen, cause.ListensToNetwork, subject, "part "+name+" listens to other machines, and you did not agree",
			s.Next, said)
	case s.Code == trouble.SocketTaken:
		d.add(seen, cause.SocketTaken, subject, "another program uses the socket of part "+name,
			"stop it, then dravit start", said)
	case s.Code == trouble.OutOfMemory:
		d.add(seen, cause.OutOfMemory, subject, "the kernel killed part "+name+" as the memory was used up",
			"free some memory (dravit status shows what each part uses), or give the machine or its "+
				"container more; then "+
				"dravit restart "+name, said)
	case !p.Program:
		d.add(seen, cause.ProgramGone, subject, "the program of part "+name+" is gone",
			"dravit start, which chooses another; or install it again",
			p.Spec.Program+" is not there").Fix = []string{"dravit", "start"}
	case s.Code == trouble.ConfigRefused && len(p.Included) > 0:
		d.add(written, cause.DirectiveRefused, subject, "the server refuses directives that a site includes",
			"correct "+trouble.List(p.Included), said)
	}
	for _, r := range p.Requires {
		if !r.Holds {
			d.add(seen, cause.RequirementUnmet, subject, "the application requires "+r.Sort+" "+r.Name+" "+r.Wanted,
				unmet(r, name), "the web process has: "+r.Got)
			return
		}
	}
	killed := s.Code == trouble.Killed // another process ended it: its own log does not explain that
	x, ended := endedSince(s)
	if !killed && !d.words(p.Traits.Symptoms, p.Log, subject, name, p.LogFile) &&
		!d.words(p.Traits.Symptoms, s.Because, subject, name, "the keeper") && ended {
		d.words(p.Traits.Symptoms, strings.Join(x.Tail, "\n"), subject, name, p.LogFile)
	}
	d.confined(p)
	if m := loader().FindStringSubmatch(p.Log); m != nil {
		library := cmp.Or(m[1], m[2], m[3])
		d.add(written, cause.LibraryMissing, subject, "a library that the program needs is missing: "+library,
			"install it; an upgrade of the system may have removed it", p.LogFile+": "+strings.TrimSpace(m[0]))
	}
	d.server(p, said)
	d.worker(p, said)
	if len(d.of(subject)) > 0 {
		return
	}
	switch {
	case killed:
		d.add(likely, cause.Killed, subject, "another process killed part "+name, "dravit restart "+name,
			said).Fix = []string{"dravit", "restart", name}
	case s.State == lifecycle.Failed || s.State == lifecycle.Pausing:
		d.add(likely, cause.Crashed, subject, "part "+name+" exited by itself", "dravit logs "+name,
			append([]string{said}, last(p.Log, 3)...)...)
	case ended: // the next process is not ready yet
		d.add(likely, cause.Crashed, subject, "part "+name+" exited by itself, and was started again",
			"dravit logs "+name, append([]string{x.How}, last(strings.Join(x.Tail, "\n"), 3)...)...)
	default:
		d.add(likely, cause.Unwell, subject, "part "+name+" lives, and "+how(health.FirstMiss(p.Rungs)),
			"dravit restart "+name, said).Fix = []string{"dravit", "restart", name}
	}
}

// unmet says how to meet a requirement.
func unmet(r kind.Requirement, part string) string {
	switch r.Sort {
	case "writable":
		return "make " + r.Name + ", and chmod u+w it"
	case "function":
		return "remove it from disable_functions in the part's settings, or load the extension that has it"
	case "database":
		return "set " + r.Name + " in the database part's settings in dravit.toml"
	}
	return "set " + r.Name + " in the settings of part " + part +
		" in dravit.toml, and not in .user.ini or with ini_set"
}

// exitCode returns the exit code of the part's process, if its end is what is wrong, else -1.
func exitCode(p PartFacts) int {
	if p.Status.Code != trouble.Exited || p.Status.LastExit == nil {
		return -1
	}
	return p.Status.LastExit.Code
}

// server examines a server of the project's own, which may do anything.
func (d *doctor) server(p PartFacts, said string) {
	if p.Spec.Role != kind.RoleApp {
		return
	}
	subject, wanted := about.Part(p.Spec.Name), kind.Loopback(p.Spec.Port)
	var elsewhere []string
	for _, at := range p.Listens {
		if at != wanted && at != fmt.Sprintf("0.0.0.0:%d", p.Spec.Port) && at != fmt.Sprintf("[::]:%d", p.Spec.Port) {
			elsewhere = append(elsewhere, at)
		}
	}
	worker := p.Spec.Want.Worker()
	alive := !worker && len(p.Rungs) > 0 && p.Rungs[0].Holds != nil && *p.Rungs[0].Holds
	switch {
	case alive && len(elsewhere) > 0:
		d.add(seen, cause.ListensElsewhere, subject, "the server listens on another port than its own",
			"make it listen on the address in HOST and the port in PORT: command = \"... --port {port}\"",
			"it listens on "+trouble.List(elsewhere), "it should listen on "+wanted)
	case exitCode(p) == 127:
		d.add(written, cause.CommandMissing, subject, "the part's command does not exist",
			"install it, or correct the part's command in dravit.toml", append([]string{said}, last(p.Log, 1)...)...)
	case exitCode(p) == 126:
		d.add(written, cause.CommandForbidden, subject, "the part's command is not executable", "chmod u+x it",
			append([]string{said}, last(p.Log, 1)...)...)
	case exitCode(p) == 0 && worker:
		d.add(seen, cause.EndsAtOnce, subject, "the worker exited without an error, but should keep running",
			"make it keep running; a command that runs once is a task", said)
	case exitCode(p) == 0:
		d.add(seen, cause.EndsAtOnce, subject, "the part's command exited without an error: it is no server, or it "+
			"went into the background", "make it stay in the foreground", said)
	case alive && len(p.Listens) == 0 && p.Status.State != lifecycle.Failed && len(d.of(subject)) == 0:
		d.add(likely, cause.DoesNotListen, subject, "the server is alive, but listens on no port",
			"dravit logs "+p.Spec.Name+" may say what it waits for", said)
	}
}

// worker examines a worker that lives, and does not work.
func (d *doctor) worker(p PartFacts, said string) {
	idle := slices.ContainsFunc(p.Rungs, func(r health.Result) bool {
		return r.Rung == kind.Works && r.Holds != nil && !*r.Holds
	})
	subject, name := about.Part(p.Spec.Name), p.Spec.Name
	if !p.Spec.Want.Worker() || !idle || p.Status.State == lifecycle.Failed || len(d.of(subject)) > 0 {
		return
	}
	evidence := append([]string{said}, last(p.Log, 2)...)
	if p.Spec.Want.Interval() > 0 {
		c := d.add(seen, cause.RunFailed, subject, "the command of part "+name+" failed when it ran last",
			"mend what its last lines say; it runs again at its time, or now: dravit restart "+name, evidence...)
		speaker := Speaker{Spec: p.Spec, Traits: p.Traits, Said: p.Log}
		if x, ok := speaker.explain(true); ok {
			c.What += ": " + strings.TrimPrefix(x.What, ownCode)
			c.Place, c.Evidence = x.Place, append(x.Evidence, said)
			c.Remedy = x.Remedy + "; it runs again at its time, or now: dravit restart " + name
		}
		return
	}
	d.add(seen, cause.ProofFailed, subject, "the worker "+name+" runs, and its proof does not hold",
		"dravit logs "+name+" may say why; dravit restart "+name, evidence...).Fix = []string{"dravit", "restart", name}
}

// loader matches what the dynamic loaders of glibc, musl and macOS write when a library is missing.
var loader = pattern.New(`error while loading shared libraries: ([^:\n]+): [^\n]*|` +
	`Error loading shared library ([^:\n]+): [^\n]*|dyld(?:\[\d+\])?: Library not loaded: ([^\n]+)`)

// machine examines what a part needs of the machine: free space, and access to its files.
func (d *doctor) machine(p PartFacts) {
	subject := about.Part(p.Spec.Name)
	if t := p.Data; t != nil {
		switch {
		case t.Foreign != "":
			d.add(seen, cause.DataOwner, subject, "the data of part "+p.Spec.Name+" belong to another user",
				"sudo chown -R "+d.f.User+" '"+t.Path+"', then dravit start", t.Foreign+" belongs to "+t.Owner)
		case t.Locked != "":
			d.add(seen, cause.DataMode, subject, "the data of part "+p.Spec.Name+
				" cannot be read and written by their owner", "chmod -R u+rwX '"+t.Path+"', then dravit start",
				t.Locked+" is closed").Fix = []string{"chmod", "-R", "u+rwX", t.Path}
		}
	}
}
