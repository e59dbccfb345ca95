package stack

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"html"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"dravit/internal/certificates"
	"dravit/internal/diagnose"
	"dravit/internal/gateway"
	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/keeper"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/logfile"
	"dravit/internal/materialise"
	"dravit/internal/members"
	"dravit/internal/plan"
	"dravit/internal/proc"
	"dravit/internal/project"
	"dravit/internal/resolver"
)

// Diagnosis is what stands behind what does not answer.
type Diagnosis struct {
	Answers bool
	Stopped bool // nobody wants the stack to run
	Causes  []diagnose.Cause
	// Since is when everything answered last, RFC 3339, and Changes what became different since then: what runs, and what the stack file says.
	Since   string
	Changes []plan.Change
	// Exits are how processes ended since the stack was started, by part, also of parts that answer again.
	Exits map[string]lifecycle.Exit
}

// Diagnose asks everything as Check does, gathers what there is to know of what does not answer, and finds the causes.
func (s *Stack) Diagnose(ctx context.Context) (Diagnosis, error) {
	facts := diagnose.Facts{Now: time.Now()}
	me, err := user.Current()
	if err != nil {
		return Diagnosis{}, err
	}
	facts.User = me.Username
	facts.Proxy, facts.Bypass = cmp.Or(os.Getenv("http_proxy"), os.Getenv("HTTP_PROXY")), cmp.Or(os.Getenv("no_proxy"), os.Getenv("NO_PROXY"))
	facts.Stopped = !s.Runs()
	if _, facts.Plan, err = s.Plan(ctx, plan.Consent{}); err != nil {
		return Diagnosis{}, err
	}
	checked, err := s.Check(ctx)
	if err != nil {
		return Diagnosis{}, err
	}
	out := Diagnosis{Answers: checked.Answers, Stopped: facts.Stopped, Since: facts.Plan.Since, Changes: slices.Concat(facts.Plan.Changes, facts.Plan.Edits), Exits: map[string]lifecycle.Exit{}}
	spec, err := s.spec()
	if err != nil {
		return out, err
	}
	for i, p := range spec.Parts {
		status := statusOf(checked.seen, p.Name)
		if status.LastExit != nil {
			out.Exits[p.Name] = *status.LastExit
		}
		if checked.Parts[i].State == lifecycle.Answers { // whatever the keeper saw before
			status.State, status.Because, status.Next = lifecycle.Answers, "", ""
		}
		if checked.Parts[i].State != lifecycle.Answers && status.State == lifecycle.Answers { // it fell since the keeper looked
			status.State = lifecycle.Unwell
			if fell := health.Fell(checked.Parts[i].Rungs); fell != nil {
				status.Because = fell.Miss()
			}
		}
		facts.Parts = append(facts.Parts, s.examine(ctx, p, status, checked.Parts[i].Rungs))
		facts.Parts[i].Requires = checked.Parts[i].Requires
	}
	facts.Gateway = s.examineGateway(spec)
	var wg sync.WaitGroup
	facts.Sites = make([]diagnose.Site, len(spec.Sites))
	for i, site := range spec.Sites {
		wg.Go(func() { facts.Sites[i] = examineSite(ctx, spec, site, checked.Sites[i].Rungs) })
	}
	wg.Wait()
	for i, site := range spec.Sites {
		facts.Sites[i].NowLogs, facts.Sites[i].SinceLogs = siteLogs(spec, site, checked)
	}
	facts.Disks = disks(s.Home, spec)
	facts.Authority = certificates.Begins(s.Home)
	out.Causes = diagnose.Causes(facts)
	return out, ctx.Err()
}

func statusOf(all []lifecycle.Status, name string) lifecycle.Status {
	if i := slices.IndexFunc(all, func(x lifecycle.Status) bool { return x.Name == name }); i >= 0 {
		return all[i]
	}
	return lifecycle.Status{Name: name, State: lifecycle.Stopped}
}

// maxLogRead is how much of a log is read for causes.
const maxLogRead = 256 << 10

// examine gathers what there is to know of a part.
func (s *Stack) examine(ctx context.Context, p kind.Part, status lifecycle.Status, rungs []health.Result) diagnose.Part {
	out := diagnose.Part{Spec: p, Status: status, Rungs: rungs, LogFile: p.Log, Log: logOf(p.Log, status.LogFrom), Program: true,
		Traits: *s.Kinds.TraitsOf(p.Kind)}
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
		return out
	}
	if p.Data != "" {
		out.Data = examineTree(p.Data)
	}
	if p.Role == kind.RoleApp {
		if ids, err := members.Of(p.Lock); err == nil {
			out.Listens, _ = proc.ListeningAt(members.PIDs(ids)) // none is known: none is said
		}
	}
	if k, ok := s.Kinds.Of(p.Kind).(kind.Store); ok && k.Traits().Accounts {
		out.Clients = clients(ctx, k, p)
	}
	return out
}

// clients asks a store who is connected to it. nil: it does not say.
func clients(ctx context.Context, k kind.Store, p kind.Part) *diagnose.Clients {
	ctx, cancel := context.WithTimeout(ctx, health.Deadline)
	defer cancel()
	sessions, limit, setting, err := k.Sessions(ctx, p)
	if err != nil {
		return nil
	}
	who, _ := proc.Clients(p.Port) // whoever is not told of is counted all the same
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

// logOf returns what a log holds from an offset on, at most its last part.
func logOf(file string, offset int64) string {
	text, _ := logfile.Since(file, offset, maxLogRead)
	return text
}

// maxEntries is how many files of a data folder are looked at.
const maxEntries = 5000

// examineTree looks for what in a folder is not its owner's to use.
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
			t.Foreign, t.Owner = path, fmt.Sprintf("user %d", stat.Uid)
			if u, err := user.LookupId(fmt.Sprint(stat.Uid)); err == nil {
				t.Owner = u.Username
			}
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

func (s *Stack) examineGateway(spec materialise.Spec) diagnose.Gateway {
	lock := s.Home.Stack(gateway.KindName, "state", gateway.KindName+".lock")
	g := diagnose.Gateway{Runs: members.Alive(lock), Port: spec.Gateway}
	address := kind.Loopback(spec.Gateway)
	if owns, err := members.Own(lock, "tcp", address); err == nil && !owns {
		if holder := proc.Taker(address); holder != (proc.Holder{}) {
			g.Holder = holder.String()
		}
	}
	return g
}

// siteLogs returns what the parts behind a site wrote, by part: since the check began to ask, and since the site
// answered last.
func siteLogs(spec materialise.Spec, site materialise.Site, c Checked) (now, since map[string]string) {
	now, since = map[string]string{}, map[string]string{}
	var answered map[string]int64
	if i := slices.IndexFunc(c.sites, func(x keeper.SiteStatus) bool { return x.Name == site.Name }); i >= 0 {
		answered = c.sites[i].LogFrom
	}
	for _, name := range []string{site.App, site.Server} {
		p, ok := spec.Part(name)
		if !ok {
			continue
		}
		now[name] = logOf(p.Log, c.logs[name])
		since[name] = logOf(p.Log, max(answered[name], statusOf(c.seen, name).LogStart))
	}
	return now, since
}

// examineSite gathers what there is to know of a site that does not answer as it should.
func examineSite(ctx context.Context, spec materialise.Spec, site materialise.Site, rungs []health.Result) diagnose.Site {
	out := diagnose.Site{Spec: site, Rungs: rungs}
	if health.Fell(rungs) == nil {
		return out
	}
	out.Resolves, _ = resolver.Addresses(ctx, site.Host) // a name that nobody knows has none
	path := site.Expect.URLPath()
	if req, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.TrimSuffix(site.URL, "/")+path, nil); err == nil {
		client := health.Client(health.Dial("tcp", kind.Loopback(spec.Gateway)))
		client.Timeout = health.Deadline
		if resp, err := client.Do(req); err == nil {
			text, _ := io.ReadAll(io.LimitReader(resp.Body, maxLogRead))
			resp.Body.Close()
			out.Status, out.Page = resp.StatusCode, html.UnescapeString(string(text))
		}
	}
	server, _ := spec.Part(site.Server)
	if i := slices.IndexFunc(server.Sites, func(x kind.VirtualHost) bool { return x.Name == site.Name }); i >= 0 && server.Sites[i].Root != "" {
		out.Root = examineRoot(server.Sites[i].Root)
	}
	return out
}

// examineRoot looks whether a document root may be read, from the top down.
func examineRoot(root string) diagnose.Root {
	out := diagnose.Root{Path: root}
	for at := root; at != filepath.Dir(at); at = filepath.Dir(at) {
		if _, err := os.Stat(at); errors.Is(err, fs.ErrNotExist) {
			out.Missing = true
		} else if err == nil && unix.Access(at, unix.X_OK) != nil {
			out.Closed = at // the highest one that stands in the way is the last found
		}
	}
	if out.Missing || out.Closed != "" {
		return out
	}
	if unix.Access(root, unix.R_OK) != nil {
		out.Closed = root
	}
	for _, index := range project.Indexes {
		file := filepath.Join(root, index)
		if _, err := os.Stat(file); err != nil {
			continue
		}
		out.PHP = !out.Index && index == "index.php" || out.PHP && index != "index.html"
		out.Index = true
		if unix.Access(file, unix.R_OK) != nil && out.Closed == "" {
			out.Closed = file
		}
	}
	return out
}

// disks looks at the file systems that the stack uses.
func disks(h *home.Home, spec materialise.Spec) []diagnose.Disk {
	var out []diagnose.Disk
	for _, x := range []struct {
		folder, of string
		ours       bool
	}{{h.Dir, "Dravit's folder with data and logs", true}, {h.Run, "the sockets", true}, {spec.Dir, "the project's files", false}, {os.TempDir(), "temporary files", false}} {
		var st unix.Statfs_t
		if x.folder == "" || unix.Statfs(x.folder, &st) != nil {
			continue
		}
		out = append(out, diagnose.Disk{Folder: x.folder, Of: x.of, Free: uint64(st.Bavail) * uint64(st.Bsize), Inodes: uint64(st.Files), InodesFree: uint64(st.Ffree),
			Memory: inMemory(st), ReadOnly: readOnly(st), OverQuota: x.ours && errors.Is(tryWriting(x.folder), unix.EDQUOT)})
	}
	return out
}

// tryWriting writes a file and removes it: file systems keep quotas in ways of their own, and all say so when somebody writes.
func tryWriting(dir string) error {
	f, err := os.CreateTemp(dir, "room-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(make([]byte, minWrite))
	return cmp.Or(err, f.Sync(), f.Close())
}

// minWrite is more than a file system keeps within a file's own entry.
const minWrite = 64 << 10
