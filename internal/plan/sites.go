package plan

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/project"
	"dravit/internal/stackfile"
	"dravit/internal/suffix"
	"dravit/internal/trouble"
)

// host returns the host name of a site's name in the stack with that number.
func host(s stackfile.SiteConfig, name string, number int) string {
	return numbered(s.Below(name), number) + "." + s.HostSuffix()
}

// sites decides each site's name, root and server. Sites with a name in the stack file go before those of folders.
func (m *maker) sites(number int) {
	byName := map[string]PartPlan{}
	var servers []string
	for _, p := range m.plan.Parts {
		byName[p.Name] = p
		if p.Role == kind.RoleWeb {
			servers = append(servers, p.Name)
		}
	}
	warned := map[string]bool{}
	for _, s := range m.in.File.Sites {
		if text := suffix.Warn(s.HostSuffix()); text != "" && !warned[text] {
			warned[text] = true
			m.plan.Warnings = append(m.plan.Warnings, text)
		}
		if s.Each == "" {
			m.site(s, s.Name, s.Root, number, servers, byName)
		}
	}
	taken := map[string]string{} // host names, with their owners
	for _, s := range m.plan.Sites {
		for _, h := range append([]string{s.Host}, s.Aliases...) {
			taken[h] = "the site " + s.Name + " of this stack"
		}
	}
	for _, s := range m.in.File.Sites {
		for _, folder := range m.in.Project.Each[s.Each] {
			name := strings.ToLower(filepath.Base(folder))
			h := host(s, name, number)
			root, why := m.rootOf(s, folder, byName[s.App].Role == kind.RoleApp)
			switch {
			case !siteName().MatchString(name):
				why = fmt.Sprintf("%q cannot be a host name, which has letters, digits and - only", name)
			case taken[h] != "":
				why = h + " is " + taken[h]
			case m.in.Ledger.Hosts[h] != "":
				why = h + " belongs to the stack " + m.in.Ledger.Hosts[h]
			}
			if why != "" {
				m.plan.Notes = append(m.plan.Notes, "the folder "+folder+": "+why)
				continue
			}
			taken[h] = "the folder " + folder
			s.Name = name
			m.site(s, name, root, number, servers, byName)
		}
	}
}

var siteName = pattern.New(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// rootOf returns the document root of a folder that is a site, or why the folder is none.
func (m *maker) rootOf(s stackfile.SiteConfig, folder string, ownServer bool) (root, why string) {
	if s.Root != "" {
		if root = filepath.Join(folder, s.Root); !m.in.Project.Folders[root].Exists {
			return "", "it has no folder " + s.Root
		}
		return root, ""
	}
	for _, r := range project.Roots {
		if root = filepath.Join(folder, r); m.in.Project.Folders[root].Index != "" {
			return root, ""
		}
	}
	if ownServer {
		return folder, ""
	}
	return "", "it has no " + strings.Join(project.Indexes, " or ") + " yet"
}

// site decides about one site. root is relative to the project, or "" if it has to be found.
func (m *maker) site(s stackfile.SiteConfig, name, root string, number int,
	servers []string, byName map[string]PartPlan) {
	subject := about.Site(name)
	site := SitePlan{
		Name:    name,
		Aliases: []string{},
		App:     s.App,
		Expect:  s.Expect,
		Host:    host(s, name, number),
		Suffix:  s.HostSuffix(),
		Include: s.Include,
		Network: s.Network(),
	}
	site.URL, site.HTTPSURL = m.url(site.Host), m.secure(site.Host)
	switch {
	case s.Each != "":
		m.decide(subject.At("name"), site.Host, nil, "the stack file demands a site of each folder "+s.Each)
	case s.HostSuffix() == stackfile.DefaultSuffix:
		m.decide(subject.At("name"), site.Host, nil, "names below localhost need no set-up (RFC 6761)")
	default:
		m.decide(subject.At("name"), site.Host, nil, "the stack file demands names below "+s.Suffix)
	}
	for _, alias := range s.Aliases {
		site.Aliases = append(site.Aliases, host(s, alias, number))
	}
	if len(site.Aliases) > 0 {
		m.decide(subject.At("aliases"), strings.Join(site.Aliases, ", "), nil, "the stack file names them")
	}
	if site.Server = s.Server; site.Server == "" {
		switch len(servers) {
		case 1:
			site.Server = servers[0]
		case 0: // its web server has no plan, which is reported already
		default:
			m.fault(trouble.Undecided, subject.At("server"),
				"the site "+name+" could be served by "+strings.Join(servers,
					" or "), "the stack has more than one web server", `name one: server = "`+servers[0]+`"`)
		}
	} else if p, ok := byName[s.Server]; ok && p.Role != kind.RoleWeb {
		m.fault(trouble.WrongKind, subject.At("server"),
			fmt.Sprintf("part %s cannot serve the site %s", s.Server, name),
			"it is a "+p.Kind+", not a web server", "name a web server, or omit the key")
	}
	m.include(subject, site, byName[site.Server])
	app, hasApp := byName[s.App]
	if hasApp && app.Role != kind.RoleRuntime && app.Role != kind.RoleApp {
		m.fault(trouble.WrongKind, subject.At("app"), fmt.Sprintf("part %s cannot run the site %s", s.App, name),
			"it is a "+app.Kind+", which does not run code", "name a runtime or a part with a command, or omit the key")
	}
	if hasApp && app.Want.Worker() {
		m.fault(trouble.WrongKind, subject.At("app"), fmt.Sprintf("part %s cannot run the site %s", s.App, name),
			"it is a worker, which has no port", "name another part, or remove listens = false")
	}
	switch {
	case hasApp && app.Role == kind.RoleApp: // the application finds its files itself
	case s.Each != "":
		site.Root = root
		m.decide(subject.At("root"), root, nil, "the site is this folder")
	default:
		m.root(&site, root)
	}
	m.network(subject, &site)
	m.plan.Sites = append(m.plan.Sites, site)
}

// include checks the file with directives of the web server.
func (m *maker) include(subject about.Subject, site SitePlan, server PartPlan) {
	if site.Include == "" || server.Kind == "" {
		return
	}
	rules := m.kinds[server.Kind].Traits().Includes
	if rules == nil {
		m.fault(trouble.WrongKind, subject.At("include"),
			fmt.Sprintf("the site %s includes %s, which its web server cannot read", site.Name, site.Include),
			server.Kind+" has no directives",
			"name the server that the file is written for:"+trouble.Lines("[part."+server.Name+"]", `kind = "nginx"`))
		return
	}
	if !slices.Contains(m.in.Project.Files, site.Include) {
		m.fault(trouble.NotThere, subject.At("include"),
			fmt.Sprintf("the file %s, which the site %s includes, does not exist", site.Include, site.Name),
			"the project has no such file", "create it, or remove include from "+stackfile.Name)
		return
	}
	if !m.includesOnly(subject, site.Include, rules) {
		return
	}
	m.decide(subject.At("include"), site.Include, nil,
		"the stack file names it; "+server.Kind+" tests it before it is used")
}

// pages adds the sites of parts that have pages of their own. Their host names begin with the part's name and the
// stack's.
func (m *maker) pages() {
	for _, p := range m.plan.Parts {
		if m.kinds[p.Kind].Traits().Pages {
			h := p.Name + "." + m.plan.Stack + "." + stackfile.DefaultSuffix
			m.plan.Sites = append(m.plan.Sites, SitePlan{
				Name:     p.Name + "." + m.plan.Stack,
				Aliases:  []string{},
				URL:      m.url(h),
				HTTPSURL: m.secure(h),
				Host:     h,
				Suffix:   stackfile.DefaultSuffix,
				Server:   p.Name,
			})
		}
	}
}

func (m *maker) url(host string) string { return address("http", host, m.plan.HTTPPort, 80) }

func (m *maker) secure(host string) string {
	return address("https", host, m.plan.HTTPSPort, 443)
}

// address omits the port that browsers use by default.
func address(scheme, host string, port, usual int) string {
	if port == usual {
		return scheme + "://" + host + "/"
	}
	return fmt.Sprintf("%s://%s:%d/", scheme, host, port)
}

// root decides a site's document root.
func (m *maker) root(site *SitePlan, named string) {
	subject := about.Site(site.Name).At("root")
	if named != "" {
		site.Root = filepath.Clean(named)
		if !m.in.Project.Folders[site.Root].Exists {
			m.fault(trouble.NotThere, subject, fmt.Sprintf("the document root %q of the site %s does not exist", named,
				site.Name), "the project has no such folder", "create it, or correct root in "+stackfile.Name)
			return
		}
		m.decide(subject, site.Root, nil, "the stack file names it")
		return
	}
	var rejected []Option
	for _, root := range project.Roots {
		f := m.in.Project.Folders[root]
		switch {
		case !f.Exists:
			rejected = append(rejected, Option{Option: root, Because: "not there"})
		case f.Index == "":
			rejected = append(rejected, Option{Option: root, Because: "it has no index.php or index.html"})
		default:
			site.Root = root
			m.decide(subject, root, rejected, "it holds "+f.Index)
			return
		}
	}
	decided := func(p PartPlan) bool { return p.Name == site.App }
	if site.App != "" && !slices.ContainsFunc(m.plan.Parts, decided) { // its program is missing: it may need no root
		return
	}
	m.fault(trouble.NotThere, subject, "the site "+site.Name+" has no document root",
		"none of "+strings.Join(project.Roots, ", ")+" holds an index.php or index.html", `name one: root = "folder"`)
}

// network decides the port on which other machines reach a site, if the user has agreed.
func (m *maker) network(subject about.Subject, site *SitePlan) {
	if !site.Network {
		return
	}
	subject = subject.At("listen")
	if slices.Contains(m.in.Consent.Loopback, site.Name) {
		m.decide(subject, "loopback", []Option{{
			Option:  "network",
			Because: "you said no; to allow it: dravit start --reachable " + site.Name + "",
		}}, "you set it so")
		return
	}
	if !slices.Contains(m.in.Consent.Network, site.Name) {
		m.plan.Warnings = append(m.plan.Warnings, "the site "+site.Name+
			" asks to be reachable from your network, and you have not agreed: dravit start --reachable "+site.Name)
		m.decide(subject, "loopback", []Option{{Option: "network", Because: "a file in a repository must not open " +
			"your machine: you have to agree"}}, "you have not agreed yet: dravit start --reachable "+site.Name)
		return
	}
	var rejected []Option
	if had := m.in.Ledger.Ports[NetworkKey(site.Name)]; had != 0 {
		why := m.refuse(had)
		if why == "" {
			site.NetworkPort = had
			m.taken[had] = true
			m.decide(subject, fmt.Sprintf("network, on port %d", had), nil,
				"you agreed; the site had this port before")
			return
		}
		rejected = append(rejected, Option{Option: fmt.Sprint(had), Because: why})
	}
	site.NetworkPort, rejected = m.free(networkBase, rejected)
	if site.NetworkPort == 0 {
		m.fault(trouble.NoPort, subject, "no port is free for the site "+site.Name,
			fmt.Sprintf("every port from %d is taken", networkBase), "stop a program that listens")
		return
	}
	m.taken[site.NetworkPort] = true
	m.decide(subject, fmt.Sprintf("network, on port %d", site.NetworkPort), rejected, "you agreed")
}

// networkBase is where the search for a network port begins.
const networkBase = 8600

// NetworkKey returns the name of a site's network port in the ledger. No part can have this name.
func NetworkKey(site string) string { return networkPrefix + site }

// IsNetworkKey reports whether a key of the ledger's ports is a NetworkKey.
func IsNetworkKey(key string) bool { return strings.HasPrefix(key, networkPrefix) }

const networkPrefix = "site."
