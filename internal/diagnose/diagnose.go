// Package diagnose finds the causes of failures. It is pure: Facts hold what package examine gathered, and the same
// facts give the same causes.
package diagnose

import (
	"cmp"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/logfile"
	"dravit/internal/materialise"
	"dravit/internal/plan"
	"dravit/internal/project"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// Facts are all that causes are derived from.
type Facts struct {
	Now       time.Time
	User      string
	Stopped   bool // the stack is not meant to run
	Plan      plan.Plan
	Kinds     []*kind.Traits // of all kinds, also those that the stack has no part of
	Parts     []PartFacts
	Sites     []SiteFacts
	Pages     []PageFacts // that failed lately
	Gateway   Gateway
	Disks     []Disk
	Proxy     string // the proxy that the environment tells programs to use for plain HTTP, "" none
	Bypass    string // the hosts that do not use it (NO_PROXY)
	Tasks     []TaskFacts
	Seeds     map[string]string // how seeds failed when they were loaded last, by part
	OldPorts  []OldPort
	Suggested map[string]Suggested // by part
	Variables []project.Variable   // in the project's own files of variables
	Mentions  []project.Mention    // lines of the project's files with what Words returned
	Dotenv    *stackfile.Dotenv    // the file of variables that starts write or keep up to date, or nil
	EnvKeys   []string             // the variables that the stack file sets
	TopLevel  []string             // the names in the project's folder
	Lacking   map[string]bool      // folders of Paths that do not exist
	Dumps     map[string]string    // by table: a file of the project with SQL that creates it
	Lines     map[string]string    // by FILE:LINE: what is written there
	Authority time.Time            // the time from which the authority's certificate is valid
}

// PartFacts is a part with what was found out about it.
type PartFacts struct {
	Spec     kind.Part
	Status   lifecycle.Status
	Rungs    []health.Result
	Log      string // what its log got since its process started
	LogFile  string
	Traits   kind.Traits        // of its kind
	Program  bool               // its program still exists
	Data     *Tree              // nil: it keeps none
	Listens  []string           // host:port, of its processes
	Requires []kind.Requirement // of its application
	Included []string           // files with directives that its sites include
	Clients  *Clients           // nil: it has no limit of connections, or did not say who is connected
	Recent   []logfile.Line     // of a worker that answers: the end of its log since it was started
	Confined Confinement        // what the system's security module lets its program do
}

// Confinement is a rule of a security module that limits a program beyond the modes of files. The zero value is none.
type Confinement struct {
	Module  string // AppArmor or SELinux
	Profile string // AppArmor's profile, SELinux' type; "" if it is not known
	File    string // the file with AppArmor's profile, or ""
}

// Tree is a folder with the files in it that its owner cannot use.
type Tree struct {
	Path string
	// Foreign is the first file that belongs to another user, Owner that user, and Locked the first file that its owner
	// may not read and write.
	Foreign, Owner, Locked string
}

// Suggested are commands that the project's own files suggest for the folder in which a part works; "": none.
type Suggested struct {
	Packages string // installs the packages that the manifest names
	Tables   string // creates the tables of the database
	Add      string // adds the package that follows to the manifest, and installs it
	Manifest string // names the packages; relative to the project
	// Named are the packages that the manifest names, in lower case.
	Named []string
}

// SiteFacts is a site with what was found out about it.
type SiteFacts struct {
	Spec     materialise.Site
	Rungs    []health.Result
	Status   int    // of its page
	Page     string // the page's text
	Resolves []netip.Addr
	Root     Root
	// NowLogs and SinceLogs are what the parts behind the site wrote to their logs, by part: while the site was asked
	// just now, and since it answered last.
	NowLogs, SinceLogs map[string]string
}

// Root is a document root.
type Root struct {
	Path    string // "" if the site has none
	Missing bool
	Closed  string // the first folder on its path, or file in it, that may not be read
	Index   bool   // it has an index file
	PHP     bool   // its index is index.php, and there is no index.html
}

// Gateway describes the gateway, the reverse proxy in front of all sites.
type Gateway struct {
	Runs   bool
	Port   int
	Holder string // the other process that holds its port, or ""
}

// Disk is a file system that holds a folder of the stack.
type Disk struct {
	Folder     string
	Of         string // what the folder holds
	Free       uint64 // bytes
	Inodes     uint64 // 0: the file system does not count them
	InodesFree uint64
	Memory     bool // it is kept in memory (tmpfs)
	ReadOnly   bool
	OverQuota  bool // this account's quota is used up
}

// OldPort is a line of the project's files that contains the port that a part had before it moved: an application's
// installer may have written it, and follows nothing.
type OldPort struct {
	File     string // relative to the project
	Line     int
	Part     string
	Was, Now int
}

// Cause is one thing behind failures.
type Cause struct {
	Cause    cause.ID      `json:"cause"`
	Subject  about.Subject `json:"subject"`
	What     string        `json:"what"`     // a sentence
	Evidence []string      `json:"evidence"` // what shows it
	Remedy   string        `json:"remedy"`   // what to do or type
	// Place is the FILE:LINE of the project's own code that is concerned, or "".
	Place string `json:"place,omitempty"`
	Pages []Page `json:"pages,omitempty"` // that failed for this cause
	// Edit is how the stack file would have to change, or nil. The remedy says so.
	Edit []stackfile.Change `json:"edit,omitempty"`
	// Fix is a command that can do no harm and that diagnose --fix can run, or nil.
	Fix []string `json:"fix,omitempty"`

	rank rank
	by   string // the part whose code is concerned, if it is not the site's own: an API behind a front end
}

// About reports whether the cause concerns one of some subjects, or an aspect of one.
func (c Cause) About(subjects []about.Subject) bool {
	return slices.ContainsFunc(subjects, c.Subject.In)
}

// rank orders causes: what was seen on the machine goes before what a program wrote, and that before what is only
// likely.
type rank int

const (
	seen rank = iota
	written
	likely
	aside // it makes nothing fail here, but may elsewhere
)

// Causes returns the causes of all failures in f, the likeliest first.
func Causes(f Facts) []Cause {
	d := &doctor{f: f, all: []Cause{}}
	d.disks()
	for _, p := range f.Parts {
		d.part(p)
	}
	d.failedTasks()
	d.failedSeeds()
	d.entrance()
	d.pages()
	for _, s := range f.Sites {
		d.site(s)
	}
	d.plan()
	d.aside()
	d.ownModules()
	d.foreignServices()
	d.variables()
	d.values()
	d.oldPorts()
	d.uninstalled()
	d.taskRemedies()
	d.edits()
	d.places()
	d.tasksFailed()
	slices.SortStableFunc(d.all, func(a, b Cause) int { return cmp.Compare(a.rank, b.rank) })
	return once(together(d.all))
}

// Fails reports whether some cause makes something fail: some only disturb other programs.
func Fails(causes []Cause) bool {
	return slices.ContainsFunc(causes, func(c Cause) bool { return c.rank != aside })
}

// together makes one cause of names that the system's resolver does not know: one command mends them all.
func together(all []Cause) []Cause {
	var names, sites []string
	first := -1
	for i, c := range all {
		if c.Cause == cause.NameUnknown {
			_, name, _ := strings.Cut(c.What, unknownName)
			site, _ := c.Subject.SiteName()
			names, sites = append(names, name), append(sites, site)
			if first < 0 {
				first = i
			}
		}
	}
	if len(names) < 2 {
		return all
	}
	whole := all[first]
	whole.Subject = about.Machine
	whole.What = "the system's resolver does not know the names " + trouble.List(names)
	whole.Evidence = append(whole.Evidence, "they are those of the sites "+trouble.List(sites))
	all = slices.DeleteFunc(all, func(c Cause) bool { return c.Cause == cause.NameUnknown })
	return slices.Insert(all, first, whole)
}

// once drops causes that were given for another subject already: a part's fault also shows in each of its sites.
func once(all []Cause) []Cause {
	said := map[string]bool{}
	return slices.DeleteFunc(all, func(c Cause) bool {
		key := string(c.Cause) + "\n" + c.What
		was := said[key]
		said[key] = true
		_, ofSite := c.Subject.SiteName()
		return was && ofSite
	})
}

type doctor struct {
	f   Facts
	all []Cause
}

func (d *doctor) add(r rank, id cause.ID, subject about.Subject, what, remedy string, evidence ...string) *Cause {
	if i := slices.IndexFunc(d.all, func(c Cause) bool { return c.Cause == id && c.Subject == subject }); i >= 0 {
		return &d.all[i]
	}
	d.all = append(d.all, Cause{
		Cause:    id,
		Subject:  subject,
		What:     what,
		Remedy:   remedy,
		Evidence: append([]string{}, evidence...),
		rank:     r,
	})
	return &d.all[len(d.all)-1]
}

// plan adds the demands that no plan can meet, unless a cause of the same subject says so already.
func (d *doctor) plan() {
	for _, x := range d.f.Plan.Faults {
		if slices.ContainsFunc(d.all, func(c Cause) bool {
			_, ofSite := c.Subject.SiteName()
			return ofSite && x.Subject != c.Subject && x.Subject.In(c.Subject)
		}) {
			continue
		}
		r := seen
		// it only keeps the next start from succeeding; the cause of this failure was found
		if len(d.of(x.Subject)) > 0 {
			r = likely
		}
		d.add(r, cause.NoPlan, x.Subject, x.What, x.Next, x.Because)
	}
}

// words searches a text for a kind's symptoms, and reports whether it found any.
func (d *doctor) words(symptoms []kind.Symptom, text string, subject about.Subject, part, where string) bool {
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
		d.add(written, s.Cause, subject, means, remedy, shortPath(where)+": "+lineAt(text, at))
	}
	return len(told) > 0
}

// shortPath returns a path as far as it tells one log of a stack from another: the rest would push aside what is said.
func shortPath(path string) string {
	if !filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(filepath.Base(filepath.Dir(path)), filepath.Base(path))
}

// lineAt returns the line of a text that holds an offset.
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
func (d *doctor) of(subject about.Subject) []Cause {
	var out []Cause
	for _, c := range d.all {
		if c.Subject == subject {
			out = append(out, c)
		}
	}
	return out
}

func (d *doctor) partOf(name string) (PartFacts, bool) {
	i := slices.IndexFunc(d.f.Parts, func(p PartFacts) bool { return p.Spec.Name == name })
	if name == "" || i < 0 {
		return PartFacts{}, false
	}
	return d.f.Parts[i], true
}

// aside adds what disturbs nothing here, but may do so elsewhere.
func (d *doctor) aside() {
	if d.f.Proxy != "" && len(d.f.Sites) > 0 && !bypasses(d.f.Bypass, d.f.Sites[0].Spec.Host) {
		d.add(aside, cause.ProxyCatches, about.Machine, "the environment's proxy settings also apply to the sites",
			"export NO_PROXY=localhost,127.0.0.1,::1", "http_proxy is "+d.f.Proxy,
			"NO_PROXY excludes "+cmp.Or(d.f.Bypass, "nothing"))
	}
	if !d.f.Authority.IsZero() && d.f.Authority.After(d.f.Now) {
		d.add(seen, cause.ClockBack, about.Machine, "the clock was set back: the certificates are not valid yet",
			"set the clock; if it is right, delete the folder authority in Dravit's folder, then dravit stop and "+
				"dravit start", "they are valid from "+d.f.Authority.Format(time.RFC3339))
	}
}

// bypasses reports whether a NO_PROXY value excludes a host, as most programs read it.
func bypasses(list, host string) bool {
	for entry := range strings.SplitSeq(list, ",") {
		entry = strings.TrimPrefix(strings.TrimPrefix(strings.TrimSpace(entry), "*"), ".")
		if entry == "" && strings.TrimSpace(list) == "*" ||
			entry != "" && (host == entry || strings.HasSuffix(host, "."+entry)) {
			return true
		}
	}
	return false
}
