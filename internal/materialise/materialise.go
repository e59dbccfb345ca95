// Package materialise turns a plan into files in Dravit's folder: each part's folders, passwords, environment and
// configuration.
package materialise

import (
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/confined"
	"dravit/internal/environment"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/ledger"
	"dravit/internal/plan"
	"dravit/internal/project"
	"dravit/internal/run"
	"dravit/internal/shell"
	"dravit/internal/stackfile"
)

// Spec is a stack as it should run. The keeper reads it, and checks and commands use it.
type Spec struct {
	Format    int    `json:"format"`
	ID        string `json:"id"`
	Name      string `json:"name"`
	Dir       string `json:"dir"`
	HTTPPort  int    `json:"gateway"`        // port
	HTTPSPort int    `json:"gateway_secure"` // port for HTTPS
	// DNSPort is the gateway's port for DNS, if a site of the stack needs it, else 0.
	DNSPort int         `json:"gateway_resolver,omitempty"`
	Parts   []kind.Part `json:"parts"`
	Sites   []Site      `json:"sites"`
	Env     []string    `json:"env"`  // what the stack adds to the environment of a command
	Path    []string    `json:"path"` // folders that come first in a command's PATH
	// Tools are the paths of required command-line programs that Dravit fetched.
	Tools []string `json:"tools,omitempty"`
	// Each: new folders become sites, so Again has to make the Spec again.
	Each bool `json:"each,omitempty"`
	// Notes are what the plan skipped, such as folders that cannot be sites.
	Notes []string `json:"notes,omitempty"`
}

// Site is one host name of the stack.
type Site struct {
	Name        string            `json:"name"`
	Host        string            `json:"host"`
	Aliases     []string          `json:"aliases,omitempty"`
	URL         string            `json:"url"`
	HTTPSURL    string            `json:"secure_url"` // over HTTPS
	Server      string            `json:"server"`     // the part that serves it, on its socket
	App         string            `json:"app,omitempty"`
	Expect      *stackfile.Expect `json:"expect,omitempty"`
	NetworkPort int               `json:"network,omitempty"` // the port for other machines; 0: none
	// Root is the document root of a site with files, or "", and Within the folders in which they may be
	// (gateway.Route).
	Root   string   `json:"root,omitempty"`
	Within []string `json:"within,omitempty"`
}

// File returns the path of a stack's Spec.
func File(h *home.Home, id string) string { return h.Stack(id, "spec.json") }

// Read returns the Spec of a stack's last start. Its ID is "" if the stack was never started.
func Read(h *home.Home, id string, kinds kind.List) (Spec, error) {
	var s Spec
	err := home.ReadJSON(File(h, id), &s)
	for i := range s.Parts {
		p := &s.Parts[i]
		if traits := kinds.TraitsOf(p.Kind); p.Way == "" && traits != nil { // an earlier Dravit wrote it
			p.Way = traits.WayOf(p.Outside)
		}
	}
	return s, err
}

// Part returns the part of that name.
func (s Spec) Part(name string) (kind.Part, bool) {
	i := slices.IndexFunc(s.Parts, func(p kind.Part) bool { return p.Name == name })
	if i < 0 {
		return kind.Part{}, false
	}
	return s.Parts[i], true
}

// Host is what the machine provides to every part.
type Host struct {
	environment.Machine
	Self string // the dravit program of this build, which is kept as long as it is used
	Link string // a link to the newest dravit program
}

// Write gives every part of a plan that is OK its folders, and writes its files. It writes the Spec last.
func Write(h *home.Home, in plan.Input, p plan.Plan, kinds kind.List, host Host) (Spec, error) {
	id := in.StackID
	spec := Spec{
		Format:    1,
		ID:        id,
		Name:      p.Stack,
		Dir:       in.Project.Dir,
		HTTPPort:  p.HTTPPort,
		HTTPSPort: p.HTTPSPort,
		DNSPort:   p.DNSPort,
		Sites:     []Site{},
		Notes:     p.Notes,
	}
	for _, dir := range []string{h.Stack(id, "conf"), h.Stack(id, "data"), h.Stack(id, "logs"), h.Stack(id, "temp"),
		h.Stack(id, "state"), filepath.Join(h.Run, id)} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return spec, err
		}
	}
	secrets, err := passwords(h, id, p)
	if err != nil {
		return spec, err
	}
	for _, x := range p.Parts {
		part := place(h, in, p, x, secrets[x.Name], host)
		if kinds.Of(x.Kind).Traits().Databases {
			giveAccount(&part, in.File.Name)
		}
		spec.Parts = append(spec.Parts, part)
	}
	for _, s := range p.Sites {
		spec.Sites = append(spec.Sites,
			Site{s.Name, s.Host, s.Aliases, s.URL, s.HTTPSURL, s.Server, s.App, s.Expect, s.NetworkPort, "", nil})
	}
	if err := placeSites(&spec, in, p); err != nil {
		return spec, err
	}
	spec.Env = environment.Variables(spec.Parts, kinds, in.File.Env, host.Machine, spec.SiteField)
	machine := host.Machine
	tools, err := placeTools(h, id, &spec, p.Tools)
	if err != nil {
		return spec, err
	}
	if tools != "" {
		machine.Path = tools + string(os.PathListSeparator) + machine.Path
	}
	spec.Path = environment.Give(spec.Parts, kinds, spec.Env, machine)
	if tools != "" {
		spec.Path = append(spec.Path, tools)
	}
	if err := makeWritable(in.Project.Dir, spec.Parts); err != nil {
		return spec, err
	}
	giveDatabases(spec.Parts, kinds)
	for i := range spec.Parts {
		if err := configure(&spec.Parts[i], kinds); err != nil {
			return spec, fmt.Errorf("configuring part %s: %w", spec.Parts[i].Name, err)
		}
	}
	spec.Each = slices.ContainsFunc(in.File.Sites, func(s stackfile.SiteConfig) bool { return s.Each != "" })
	if spec.Each {
		if err := home.WriteState(madeFile(h, id), made{in, host}); err != nil {
			return spec, err
		}
	}
	if err := writeDotenv(in.Project.Dir, in.File.Dotenv, spec.Env); err != nil {
		return spec, err
	}
	return spec, home.WriteState(File(h, id), spec)
}

// placeTools makes a folder with the required programs that Dravit fetched, for this stack's PATH. It returns "" if
// there are none.
func placeTools(h *home.Home, id string, spec *Spec, tools []plan.Tool) (dir string, err error) {
	dir = h.Stack(id, "tools")
	if err := os.RemoveAll(dir); err != nil || len(tools) == 0 {
		return "", err
	}
	if err := os.Mkdir(dir, 0o700); err != nil {
		return "", err
	}
	for _, t := range tools {
		spec.Tools = append(spec.Tools, t.Program)
		text := "#!/bin/sh\nexec " + shell.Quote(t.Program) + " \"$@\"\n"
		if err := os.WriteFile(filepath.Join(dir, t.Name), []byte(text), 0o700); err != nil {
			return "", err
		}
	}
	return dir, nil
}

// Enter records in the ledger which ports and names a plan gave to a stack.
func Enter(book *ledger.Ledger, id, dir string, mark ledger.Mark, p plan.Plan) (changed bool) {
	own := ledger.Stack{Dir: dir, Mark: mark, Name: p.Stack, Ports: map[string]int{}, Hosts: map[string]string{}}
	for _, x := range p.Parts {
		if x.Port != 0 && x.Way != kind.WayOutside {
			own.Ports[x.Name] = x.Port
		}
		if x.Debug != 0 {
			own.Ports[plan.DebugKey(x.Name)] = x.Debug
		}
		for name, port := range x.Ports {
			own.Ports[plan.PortKey(x.Name, name)] = port
		}
	}
	for _, site := range p.Sites {
		own.Hosts[site.Name] = site.Host
		for _, alias := range site.Aliases {
			own.Hosts[alias] = alias
		}
		if site.Suffix != stackfile.DefaultSuffix && !slices.Contains(own.Suffixes, site.Suffix) {
			own.Suffixes = append(own.Suffixes, site.Suffix)
		}
		if site.NetworkPort != 0 {
			own.Ports[plan.NetworkKey(site.Name)] = site.NetworkPort
		}
	}
	own.Former = former(book.Stacks[id], own.Ports)
	changed = book.HTTPPort != p.HTTPPort || book.HTTPSPort != p.HTTPSPort ||
		book.DNSPort != p.DNSPort || !book.Stacks[id].Equal(own)
	book.Stacks[id] = own
	book.HTTPPort, book.HTTPSPort, book.DNSPort = p.HTTPPort, p.HTTPSPort, p.DNSPort
	return changed
}

// former returns the port that each part had before it got the one in ports, if it has moved since its first start.
func former(was ledger.Stack, ports map[string]int) map[string]int {
	out := map[string]int{}
	for part, port := range ports {
		before := was.Former[part]
		if had := was.Ports[part]; had != 0 && had != port {
			before = had
		}
		if before != 0 && before != port {
			out[part] = before
		}
	}
	return out
}

// passwords returns a password for every store: the old one if it has one, and for a server outside the stack the one
// that the user gave.
func passwords(h *home.Home, id string, p plan.Plan) (map[string]string, error) {
	file := h.Stack(id, "secrets.json")
	secrets := map[string]string{}
	if err := home.ReadJSON(file, &secrets); err != nil {
		return nil, err
	}
	changed, all := false, map[string]string{}
	for _, x := range p.Parts {
		if x.Outside != "" {
			all[x.Name] = secrets[outsideKey(x.Name, x.Outside, x.Port)]
			continue
		}
		if secrets[x.Name] == "" && (x.Role.Store() || x.Role == kind.RoleTool) {
			secrets[x.Name] = rand.Text()
			changed = true
		}
		all[x.Name] = secrets[x.Name]
	}
	if !changed {
		return all, nil
	}
	return all, home.WriteJSON(file, secrets)
}

func place(h *home.Home, in plan.Input, p plan.Plan, x plan.PartPlan, password string, host Host) kind.Part {
	id := in.StackID
	part := kind.Part{
		Stack: p.Stack, StackID: id, Name: x.Name, Kind: x.Kind, Role: x.Role, Version: x.Version,
		Program: x.Program, Facts: x.Facts, Want: x.Want, Uses: x.Uses,
		Port: x.Port, Ports: x.Ports, Socket: x.Socket, Password: password, Project: in.Project.Dir,
		Conf: h.Stack(id, "conf", x.Name), Temp: h.Stack(id, "temp", x.Name), Keep: h.Stack(id, "keep", x.Name),
		Log:  h.Stack(id, "logs", x.Name+".log"),
		Lock: h.Stack(id, "state", x.Name+".lock"), Self: host.Link, Debug: x.Debug, UpgradeFrom: x.UpgradeFrom,
		UpgradeWith: x.UpgradeWith,
	}
	for _, m := range x.Modules {
		if !filepath.IsAbs(m.File) {
			m.File = filepath.Join(in.Project.Dir, m.File)
		}
		m.Needs = nil // the order of the modules shows it
		part.Modules = append(part.Modules, m)
	}
	if x.Data {
		part.Data = h.Stack(id, "data", x.Name)
	}
	part.Way, part.Outside = x.Way, x.Outside
	part.Network = slices.Contains(in.Consent.Network, plan.PartConsent(x.Name))
	if x.Program == "" { // it runs the dravit program, or may
		part.Self = host.Self
	}
	return part
}

// giveAccount sets the names of a part's database and user: as the stack file says, else after the stack.
func giveAccount(p *kind.Part, stack string) {
	p.Database = cmp.Or(p.Want.Database, databaseName(stack))
	p.User = cmp.Or(p.Want.User, p.Database[:min(len(p.Database), 32)])
}

// giveDatabases gives tools the databases that they use.
func giveDatabases(parts []kind.Part, kinds kind.List) {
	for i := range parts {
		tool := &parts[i]
		if tool.Role != kind.RoleTool {
			continue
		}
		for _, p := range parts {
			if slices.Contains(tool.Uses, p.Name) && kinds.Of(p.Kind).Traits().Databases {
				tool.Databases = append(tool.Databases, p)
			}
		}
	}
}

// databaseName makes a database's name that needs no quotes from a stack's name.
func databaseName(stack string) string {
	name := strings.ReplaceAll(stack, "-", "_")
	if name[0] >= '0' && name[0] <= '9' {
		name = "db_" + name
	}
	return name[:min(len(name), 48)]
}

// placeSites gives each part the sites that it serves or runs.
// maxInclude is how long a file with directives may be, in bytes.
const maxInclude = 1 << 20

func placeSites(spec *Spec, in plan.Input, p plan.Plan) error {
	parts := map[string]*kind.Part{}
	for i := range spec.Parts {
		parts[spec.Parts[i].Name] = &spec.Parts[i]
	}
	for _, s := range p.Sites {
		site := kind.VirtualHost{Name: s.Name, Host: s.Host, Aliases: s.Aliases, App: s.App}
		if s.Root != "" {
			site.Root = filepath.Join(in.Project.Dir, s.Root)
		}
		if s.Include != "" {
			site.Include = filepath.Join(in.Project.Dir, s.Include)
			text, err := confined.ReadFile(in.Project.Dir, s.Include, maxInclude, in.Project.Elsewhere...)
			if err != nil {
				return err
			}
			site.Included = fmt.Sprintf("%x", sha256.Sum256(text))
		}
		if app := parts[s.App]; app != nil {
			if app.Role == kind.RoleApp {
				site.Proxy = kind.Loopback(app.Port)
			} else {
				site.FPM, site.Probe = app.Socket, filepath.Join(app.Conf, "probe.php")
			}
			app.Sites = append(app.Sites, site)
		}
		server := parts[s.Server]
		server.Sites = append(server.Sites, site)
		if i := slices.IndexFunc(spec.Sites, func(x Site) bool { return x.Name == s.Name }); i >= 0 &&
			site.Proxy == "" &&
			site.Root != "" {
			spec.Sites[i].Root, spec.Sites[i].Within = site.Root, realFolders(in.Project)
		}
	}
	for i := range spec.Parts {
		for _, use := range spec.Parts[i].Uses {
			if x := parts[use]; x != nil && x.Role.Store() {
				spec.Parts[i].Stores = append(spec.Parts[i].Stores, kind.StoreRef{
					Name:   x.Name,
					Kind:   x.Kind,
					Role:   x.Role,
					Prefix: stackfile.EnvPrefix(x.Name),
				})
			}
		}
	}
	return nil
}

// realFolders returns the folders in which the files of a project may be, without links.
func realFolders(p project.Facts) []string {
	var resolved []string
	for _, dir := range append([]string{p.Dir}, p.Elsewhere...) {
		if x, err := filepath.EvalSymlinks(dir); err == nil { // one that is not there holds nothing
			resolved = append(resolved, x)
		}
	}
	return resolved
}

// configure writes a part's files, and returns a hash of all that needs a restart when it changes.
func configure(p *kind.Part, kinds kind.List) error {
	k := kinds.Of(p.Kind)
	files, err := k.Files(run.Of(*p).View(*p))
	if err != nil {
		return err
	}
	for _, dir := range []string{p.Conf, p.Temp} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			return err
		}
	}
	for _, f := range files {
		file := filepath.Join(p.Conf, f.Name)
		if dir := filepath.Dir(file); dir != p.Conf {
			if err := os.MkdirAll(dir, 0o700); err != nil {
				return err
			}
		}
		if _, err := home.WriteDerived(file, []byte(f.Text), f.Mode); err != nil {
			return err
		}
	}
	// PATH differs between terminals, which is no reason to restart anything.
	bare := *p
	bare.UpgradeFrom, bare.UpgradeWith, bare.Want.Seed = "", "", ""
	bare.Env = slices.DeleteFunc(slices.Clone(p.Env), func(v string) bool { return strings.HasPrefix(v, "PATH=") })
	bare.Sites = nil // a process learns about its sites from its files
	if k.Traits().Reload != 0 {
		included := []string{}
		for _, s := range p.Sites {
			included = append(included, s.Included)
		}
		if p.Config, err = hash(files, included); err != nil {
			return err
		}
		files = nil
	}
	p.Hash, err = hash(bare, files)
	return err
}

func hash(values ...any) (string, error) {
	text, err := json.Marshal(values)
	sum := sha256.Sum256(text)
	return fmt.Sprintf("%x", sum[:12]), err
}

// SiteField returns the value of {site.NAME.FIELD}.
func (s Spec) SiteField(name, field string) string {
	i := slices.IndexFunc(s.Sites, func(x Site) bool { return x.Name == name })
	if i < 0 {
		return "" // a site of a folder that is gone
	}
	site := s.Sites[i]
	switch field {
	case "url":
		return strings.TrimSuffix(site.URL, "/")
	case "host":
		return site.Host
	}
	return fmt.Sprint(s.HTTPPort)
}
