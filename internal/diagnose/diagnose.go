// Package diagnose finds the causes behind failures. It looks at nothing itself: Facts hold what was gathered, and the same facts give the
// same causes.
package diagnose

import (
	"cmp"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/materialise"
	"dravit/internal/plan"
)

// Facts is what causes rest on.
type Facts struct {
	Now       time.Time
	User      string
	Stopped   bool // nobody wants the stack to run
	Plan      plan.Plan
	Parts     []Part
	Sites     []Site
	Gateway   Gateway
	Disks     []Disk
	Proxy     string    // the proxy that the environment tells programs to use for plain HTTP, "" none
	Bypass    string    // what it leaves out (NO_PROXY)
	Authority time.Time // when the certificates of the sites' authority begin
}

// Part is a part with what was found of it.
type Part struct {
	Spec     kind.Part
	Status   kind.Status
	Rungs    []health.Result
	Log      string // since its process started
	LogFile  string
	Symptoms []kind.Symptom
	Program  bool               // its program is there
	Data     *Tree              // nil: it keeps none
	Listens  []string           // host:port, of its processes
	Requires []kind.Requirement // of its application
	Included []string           // files with directives that its sites include
}

// Tree is a folder with what stands in its owner's way.
type Tree struct {
	Path string
	// Foreign is the first file that belongs to somebody else, and Owner who; Locked the first that its owner may not read and write.
	Foreign, Owner, Locked string
}

// Site is a site with what was found of it.
type Site struct {
	Spec     materialise.Site
	Rungs    []health.Result
	Status   int    // of its page
	Page     string // the page's text
	Resolves []netip.Addr
	Root     Root
}

// Root is a document root.
type Root struct {
	Path    string // "" where the site has none
	Missing bool
	Closed  string // the first folder on the way, or file in it, that may not be read
	Index   bool   // it has an index file
}

// Gateway is the entrance.
type Gateway struct {
	Runs   bool
	Port   int
	Holder string // who else has its port; "" nobody
}

// Disk is a file system of which the stack uses a folder.
type Disk struct {
	Folder     string
	Of         string // what it is for
	Free       uint64 // bytes
	Inodes     uint64 // 0: it does not count them
	InodesFree uint64
	Memory     bool // it lies in memory (tmpfs)
	ReadOnly   bool
	OverQuota  bool // this account may write no more there
}

// Cause is one thing behind failures.
type Cause struct {
	Cause    string   `json:"cause"`    // a word of docs/causes.md
	Subject  string   `json:"subject"`  // part.db, site.ferry, machine, ...
	What     string   `json:"what"`     // a sentence
	Evidence []string `json:"evidence"` // what tells so
	Remedy   string   `json:"remedy"`   // what to do or type
	// Fix is a command that can do no harm, and that Dravit can run itself; nil: none.
	Fix []string `json:"fix,omitempty"`

	rank rank
}

// rank orders causes: what was seen on the machine goes before what somebody wrote, and that before what is only likely.
type rank int

const (
	seen rank = iota
	written
	likely
	aside // nothing fails for it here, and something may elsewhere
)

// Causes returns the causes, the likeliest first.
func Causes(f Facts) []Cause {
	d := &doctor{f: f, all: []Cause{}}
	d.disks()
	for _, p := range f.Parts {
		d.part(p)
	}
	d.entrance()
	for _, s := range f.Sites {
		d.site(s)
	}
	d.plan()
	d.aside()
	slices.SortStableFunc(d.all, func(a, b Cause) int { return cmp.Compare(a.rank, b.rank) })
	return d.all
}

type doctor struct {
	f   Facts
	all []Cause
}

func (d *doctor) add(r rank, cause, subject, what, remedy string, evidence ...string) *Cause {
	if i := slices.IndexFunc(d.all, func(c Cause) bool { return c.Cause == cause && c.Subject == subject }); i >= 0 {
		return &d.all[i]
	}
	d.all = append(d.all, Cause{Cause: cause, Subject: subject, What: what, Remedy: remedy, Evidence: append([]string{}, evidence...), rank: r})
	return &d.all[len(d.all)-1]
}

// plan: what no plan can satisfy is a cause by itself, where it does not say over again what was found of a site.
func (d *doctor) plan() {
	for _, x := range d.f.Plan.Faults {
		if slices.ContainsFunc(d.all, func(c Cause) bool {
			return strings.HasPrefix(c.Subject, "site.") && strings.HasPrefix(x.Subject, c.Subject+".")
		}) {
			continue
		}
		r := seen
		if len(d.of(x.Subject)) > 0 { // it keeps the next start from succeeding; what happened to this one was found
			r = likely
		}
		d.add(r, "no-plan", x.Subject, x.What, x.Next, x.Because)
	}
}

// part finds what is wrong with a part that does not answer.
func (d *doctor) part(p Part) {
	name, subject, s := p.Spec.Name, "part."+p.Spec.Name, p.Status
	if d.f.Stopped {
		return
	}
	switch s.State {
	case kind.Answers:
		return
	case kind.Stopped:
		d.add(likely, "stopped", subject, "part "+name+" was stopped", "dravit start").Fix = []string{"dravit", "start"}
		return
	case kind.Waiting:
		return // what it waits for is the cause
	case kind.Unwell, kind.Starting:
		for _, use := range p.Spec.Uses {
			if x, ok := d.partOf(use); ok && x.Status.State != kind.Answers {
				return // so is what it does not reach
			}
		}
	}
	d.machine(p)
	said := "it says: " + strings.TrimSpace(s.Because)
	switch {
	case strings.Contains(s.Because, "was taken by"):
		remedy := "dravit start, which moves it"
		if p.Spec.Want.Port != 0 {
			remedy = fmt.Sprintf("free it (dravit ports %d), or pin another port in dravit.toml", p.Spec.Port)
		}
		d.add(seen, "port-taken", subject, "another program has the port of part "+name, remedy, said)
	case strings.Contains(s.Because, "that Dravit did not start listens on"):
		d.add(seen, "socket-taken", subject, "another program has the socket of part "+name, "end it, then dravit start", said)
	case strings.Contains(s.Because, "since there was no memory left"):
		d.add(seen, "out-of-memory", subject, "the kernel killed part "+name+" for want of memory", "free some (dravit status shows what each part takes), or give the machine or its container more; then dravit restart "+name, said)
	case !p.Program:
		d.add(seen, "program-gone", subject, "the program of part "+name+" is gone since it was started", "dravit start, which chooses another; or install it again", p.Spec.Program+" is not there").Fix = []string{"dravit", "start"}
	case strings.Contains(s.Because, "own test refuses the configuration") && len(p.Included) > 0:
		d.add(written, "directive-refused", subject, "the server refuses directives that a site includes", "correct "+strings.Join(p.Included, ", "), said)
	}
	for _, r := range p.Requires {
		if !r.Holds {
			d.add(seen, "requirement-unmet", subject, "the application requires "+r.Sort+" "+r.Name+" "+r.Wanted, unmet(r, name), "the web process has: "+r.Got)
			return
		}
	}
	killed := strings.Contains(s.Because, "killed by signal 9") // from outside: its own words tell nothing of that
	if !killed && !d.words(p.Symptoms, p.Log, subject, name, p.LogFile) {
		d.words(p.Symptoms, s.Because, subject, name, "the keeper")
	}
	if m := loader.FindStringSubmatch(p.Log); m != nil {
		d.add(written, "library-missing", subject, "a library that the program needs is not there: "+m[1], "install it; an upgrade of the system may have taken it away", p.LogFile+": "+strings.TrimSpace(m[0]))
	}
	d.server(p, said)
	if len(d.of(subject)) > 0 {
		return
	}
	switch {
	case killed:
		d.add(likely, "killed", subject, "something outside killed part "+name, "dravit restart "+name, said).Fix = []string{"dravit", "restart", name}
	case s.State == kind.Failed || s.State == kind.Pausing:
		d.add(likely, "crashed", subject, "part "+name+" ended by itself", "dravit logs "+name, append([]string{said}, last(p.Log, 3)...)...)
	default:
		d.add(likely, "unwell", subject, "part "+name+" lives, and does not answer as it should", "dravit restart "+name, said).Fix = []string{"dravit", "restart", name}
	}
}

// unmet says how a requirement is met.
func unmet(r kind.Requirement, part string) string {
	switch r.Sort {
	case "writable":
		return "make " + r.Name + ", and chmod u+w it"
	case "function":
		return "take it out of disable_functions in the part's settings, or load the extension that has it"
	case "database":
		return "set " + r.Name + " in the database part's settings in dravit.toml"
	}
	return "set " + r.Name + " in the settings of part " + part + " in dravit.toml, and nowhere else (.user.ini, ini_set)"
}

// server looks at servers of the project's own, which may do anything.
func (d *doctor) server(p Part, said string) {
	if p.Spec.Role != kind.App {
		return
	}
	subject, wanted := "part."+p.Spec.Name, fmt.Sprintf("%s:%d", kind.Host, p.Spec.Port)
	var elsewhere []string
	for _, at := range p.Listens {
		if at != wanted && at != fmt.Sprintf("0.0.0.0:%d", p.Spec.Port) && at != fmt.Sprintf("[::]:%d", p.Spec.Port) {
			elsewhere = append(elsewhere, at)
		}
	}
	alive := len(p.Rungs) > 0 && p.Rungs[0].Holds != nil && *p.Rungs[0].Holds
	switch {
	case alive && len(elsewhere) > 0:
		d.add(seen, "listens-elsewhere", subject, "the server listens, but not where it should", "have it listen on the address in HOST and the port in PORT: command = \"... --port {port}\"", "it listens on "+strings.Join(elsewhere, ", "), "it should on "+wanted)
	case strings.Contains(p.Status.Because, "code 127"):
		d.add(written, "command-missing", subject, "the part's command is not there", "install it, or correct the part's command in dravit.toml", append([]string{said}, last(p.Log, 1)...)...)
	case strings.Contains(p.Status.Because, "code 126"):
		d.add(written, "command-forbidden", subject, "the part's command may not be run", "chmod u+x it", append([]string{said}, last(p.Log, 1)...)...)
	case strings.Contains(p.Status.Because, "code 0"):
		d.add(seen, "ends-at-once", subject, "the part's command ended without an error, so it is no server, or went into the background", "have it stay in the foreground", said)
	case alive && len(p.Listens) == 0 && p.Status.State != kind.Failed && len(d.of(subject)) == 0:
		d.add(likely, "does-not-listen", subject, "the server lives, and listens nowhere", "dravit logs "+p.Spec.Name+" may tell what it waits for", said)
	}
}

var loader = regexp.MustCompile(`error while loading shared libraries: ([^:\n]+): [^\n]*`)

// machine looks at what a part needs of the machine: room, and files that are its own.
func (d *doctor) machine(p Part) {
	subject := "part." + p.Spec.Name
	if t := p.Data; t != nil {
		switch {
		case t.Foreign != "":
			d.add(seen, "data-owner", subject, "the data of part "+p.Spec.Name+" belong to somebody else", "sudo chown -R "+d.f.User+" '"+t.Path+"', then dravit start", t.Foreign+" belongs to "+t.Owner)
		case t.Locked != "":
			d.add(seen, "data-mode", subject, "the data of part "+p.Spec.Name+" may not be read and written by their owner", "chmod -R u+rwX '"+t.Path+"', then dravit start", t.Locked+" is closed").Fix = []string{"chmod", "-R", "u+rwX", t.Path}
		}
	}
}

// disks looks at the room that there is. What is full is told also where everything answers still: the next thing to be written fails.
func (d *doctor) disks() {
	short, over, wrong := false, false, d.f.Stopped
	for _, p := range d.f.Parts {
		wrong = wrong || p.Status.State != kind.Answers
		short = short || strings.Contains(p.Log+p.Status.Because, "o space left") || strings.Contains(p.Log, "Errcode: 28") || strings.Contains(p.Log, "Disk is full")
		over = over || overQuota.MatchString(p.Log+p.Status.Because)
	}
	r := seen
	if !wrong {
		r = aside
	}
	for _, disk := range d.f.Disks {
		switch {
		case wrong && disk.ReadOnly:
			d.add(r, "read-only", "machine", "the file system of "+disk.Folder+" can be read only", "mount it for writing, or put Dravit's folder elsewhere: DRAVIT_HOME", disk.Of+" are there")
		case disk.Inodes > 0 && disk.InodesFree == 0:
			d.add(r, "inodes-full", "machine", "the disk has room, but no more files may be made in "+disk.Folder, "remove many small files there: df -i", disk.Of+" are there", fmt.Sprintf("%d of %d files exist", disk.Inodes-disk.InodesFree, disk.Inodes))
		case disk.OverQuota:
			d.add(r, "quota-full", "machine", "the disk has room, but what "+d.f.User+" may store in "+disk.Folder+" is used up", "remove files of yours there, or have the quota raised", disk.Of+" are there", "writing there ends with: disk quota exceeded")
		case disk.Free < minRoom && disk.Memory:
			d.add(r, "memory-disk-full", "machine", disk.Folder+", which lies in memory, is full", "remove files there: df -h", disk.Of+" are there", fmt.Sprintf("%d KB are free", disk.Free>>10))
		case disk.Free < minRoom:
			d.add(r, "disk-full", "machine", "there is no room in "+disk.Folder, "make room there: df -h", disk.Of+" are there", fmt.Sprintf("%d KB are free", disk.Free>>10))
		case wrong && short && disk.Free < tightRoom:
			d.add(r, map[bool]string{true: "memory-disk-full", false: "disk-full"}[disk.Memory], "machine", "there was no room in "+disk.Folder, "make room there: df -h", disk.Of+" are there", fmt.Sprintf("%d MB are free now", disk.Free>>20))
		}
	}
	if wrong && over { // where it writes itself, or before something was removed
		d.add(written, "quota-full", "machine", "somewhere, what "+d.f.User+" may store is used up, or was", "remove files of yours, or have the quota raised", "a log says: disk quota exceeded")
	}
}

var overQuota = regexp.MustCompile(`(?i)disk quota exceeded`) // EDQUOT, errno(3)

// minRoom is what no server runs with; tightRoom what explains that one found no room.
const (
	minRoom   = 1 << 20
	tightRoom = 64 << 20
)

// words looks for a kind's symptoms in a text, and tells whether any was there.
func (d *doctor) words(symptoms []kind.Symptom, text, subject, part, where string) bool {
	told := map[int]bool{} // lines that a likelier symptom has explained
	for _, s := range symptoms {
		means, remedy, at := s.Find(text, part)
		if at < 0 {
			continue
		}
		line := strings.LastIndexByte(text[:at], '\n')
		if told[line] {
			continue
		}
		told[line] = true
		d.add(written, s.Cause, subject, means, remedy, where+": "+lineAt(text, at))
	}
	return len(told) > 0
}

// lineAt is the line of a text that holds an offset.
func lineAt(text string, at int) string {
	begin := strings.LastIndexByte(text[:at], '\n') + 1
	line, _, _ := strings.Cut(text[begin:], "\n")
	line = strings.TrimSpace(line)
	if len(line) > 300 {
		line = strings.ToValidUTF8(line[:300], "") + "..."
	}
	return line
}

func last(log string, n int) []string {
	lines := strings.Split(strings.TrimSpace(log), "\n")
	if lines[0] == "" {
		return nil
	}
	return lines[max(0, len(lines)-n):]
}

// of returns the causes of a subject.
func (d *doctor) of(subject string) []Cause {
	var out []Cause
	for _, c := range d.all {
		if c.Subject == subject {
			out = append(out, c)
		}
	}
	return out
}

// entrance looks at the gateway.
func (d *doctor) entrance() {
	if d.f.Stopped || len(d.f.Sites) == 0 {
		return
	}
	switch g := d.f.Gateway; {
	case g.Holder != "":
		d.add(seen, "gateway-port-taken", "gateway", "another program has the gateway's port", fmt.Sprintf("end it (dravit ports %d), then dravit start", g.Port), fmt.Sprintf("port %d is held by %s", g.Port, g.Holder))
	case !g.Runs:
		d.add(seen, "gateway-down", "gateway", "the gateway does not run", "dravit start").Fix = []string{"dravit", "start"}
	}
}

// site finds what is wrong with a site that does not answer as it should.
func (d *doctor) site(s Site) {
	subject := "site." + s.Spec.Name
	fell := health.Fell(s.Rungs)
	if fell == nil || d.f.Stopped {
		return
	}
	said := fmt.Sprintf("%s: expected %s, got %s", fell.Rung, fell.Expected, fell.Got)
	switch fell.Rung {
	case kind.Resolves:
		if i := slices.IndexFunc(s.Resolves, func(a netip.Addr) bool { return !a.IsLoopback() }); i >= 0 {
			d.add(seen, "name-elsewhere", subject, "the name "+s.Spec.Host+" leads to another machine", "take it out of /etc/hosts or the resolver; or dravit names hosts on, which puts it right", "the system's resolver says "+s.Resolves[i].String())
		} else {
			d.add(seen, "name-unknown", subject, "the system's resolver does not know the name "+s.Spec.Host, "dravit names hosts on, or dravit names resolver on", said)
		}
		return
	case kind.Reaches, kind.Routed:
		if len(d.of("gateway")) == 0 {
			d.add(likely, "gateway-down", "gateway", "the gateway does not lead to the site "+s.Spec.Name, "dravit start", said).Fix = []string{"dravit", "start"}
		}
		return
	}
	app, hasApp := d.partOf(s.Spec.App)
	server, hasServer := d.partOf(s.Spec.Server)
	if hasServer && server.Status.State != kind.Answers || hasApp && app.Status.State != kind.Answers && app.Status.State != kind.Unwell {
		return // it is the cause, and said already
	}
	// What a runtime cannot reach stands behind its page, but for what the page says of other things.
	var behind []string
	for _, use := range app.Spec.Uses {
		if p, ok := d.partOf(use); ok && p.Status.State != kind.Answers {
			behind = []string{"store-elsewhere", "wrong-password", "application-error"}
		}
	}
	switch r := s.Root; {
	case r.Path == "":
	case r.Missing:
		d.add(seen, "root-gone", subject, "the document root of the site "+s.Spec.Name+" is gone", "make it again, or correct root in dravit.toml", r.Path+" is not there")
		return
	case r.Closed != "":
		d.add(seen, "root-closed", subject, "the files of the site "+s.Spec.Name+" may not be read", "chmod -R u+rX '"+r.Closed+"'", r.Closed+" is closed").Fix = []string{"chmod", "-R", "u+rX", r.Closed}
		return
	}
	found := false
	if hasApp {
		symptoms := slices.DeleteFunc(slices.Clone(app.Symptoms), func(x kind.Symptom) bool { return slices.Contains(behind, x.Cause) })
		found = d.words(symptoms, s.Page, subject, app.Spec.Name, "the page at "+s.Spec.URL)
		if !found && behind == nil {
			found = d.words(symptoms, app.Log, subject, app.Spec.Name, app.LogFile)
		}
	}
	if hasServer && !found {
		found = d.words(server.Symptoms, server.Log, subject, server.Spec.Name, server.LogFile)
	}
	if found || behind != nil {
		return
	}
	switch {
	case s.Root.Path != "" && !s.Root.Index && (s.Status == 403 || s.Status == 404):
		d.add(seen, "index-missing", subject, "the document root of the site "+s.Spec.Name+" has no index", "make index.php or index.html there, or name another root in dravit.toml", s.Root.Path+" has neither index.php nor index.html", said)
	case fell.Rung == kind.Matches && s.Spec.Expect != nil && s.Spec.Expect.Text != "" && !strings.Contains(s.Page, s.Spec.Expect.Text):
		d.add(likely, "text-missing", subject, "the page comes, and does not say what it should", "correct the page, or expect in dravit.toml", said)
	case s.Status >= 500:
		d.add(likely, "application-error", subject, "the application answers with an error", "dravit logs "+cmp.Or(s.Spec.App, s.Spec.Server), said)
	case s.Status >= 400:
		d.add(likely, "status-unexpected", subject, fmt.Sprintf("the site answers with status %d", s.Status), "correct the application, or expect in dravit.toml", said)
	default:
		d.add(likely, "unwell", subject, "the site does not answer as it should", "dravit check; dravit logs", said)
	}
}

func (d *doctor) partOf(name string) (Part, bool) {
	i := slices.IndexFunc(d.f.Parts, func(p Part) bool { return p.Spec.Name == name })
	if name == "" || i < 0 {
		return Part{}, false
	}
	return d.f.Parts[i], true
}

// aside: what stands in nobody's way here, and may elsewhere.
func (d *doctor) aside() {
	if d.f.Proxy != "" && len(d.f.Sites) > 0 && !bypasses(d.f.Bypass, d.f.Sites[0].Spec.Host) {
		d.add(aside, "proxy-catches", "machine", "the environment sends requests for the sites to a proxy", "export NO_PROXY=localhost,127.0.0.1,::1", "http_proxy is "+d.f.Proxy, "NO_PROXY leaves out "+cmp.Or(d.f.Bypass, "nothing"))
	}
	if !d.f.Authority.IsZero() && d.f.Authority.After(d.f.Now) {
		d.add(seen, "clock-back", "machine", "the clock was set back: the certificates begin in the future", "set the clock right; where it is, remove the folder authority in Dravit's own, then dravit stop and dravit start", "they begin at "+d.f.Authority.Format(time.RFC3339))
	}
}

// bypasses tells whether a NO_PROXY leaves a host out, as most programs read it.
func bypasses(list, host string) bool {
	for entry := range strings.SplitSeq(list, ",") {
		entry = strings.TrimPrefix(strings.TrimPrefix(strings.TrimSpace(entry), "*"), ".")
		if entry == "" && strings.TrimSpace(list) == "*" || entry != "" && (host == entry || strings.HasSuffix(host, "."+entry)) {
			return true
		}
	}
	return false
}
