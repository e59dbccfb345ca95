// Package environment assembles the environment of a stack's commands: of its parts' processes, of `dravit run`, and of
// whatever else runs a command for a part.
package environment

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// Machine is what the machine adds to the environment of every command of a stack.
type Machine struct {
	Path string // PATH of the command that started the stack
	Home string // the user's home folder
	User string
	Lang string // the locale of its programs
	// Authority is the file with the certificate of the sites' authority. Bundle is a file that also has the
	// certificates that the system trusts. "": there is none.
	Authority, Bundle string
}

// Variables returns what a stack adds to the environment of a command, each as NAME=value: how to reach its stores and
// applications, which certificates to trust, and own, the variables of the stack file. site says what
// {site.NAME.FIELD} stands for.
func Variables(parts []kind.Part, kinds kind.List, own map[string]stackfile.Text, m Machine,
	site func(name, field string) string) []string {
	vars := map[string]string{}
	fields := map[string]map[string]string{}
	for _, p := range parts {
		fields[p.Name] = reach(p, kinds.Of(p.Kind))
		for field, value := range fields[p.Name] {
			if value != "" {
				vars[stackfile.EnvPrefix(p.Name)+"_"+strings.ToUpper(field)] = value
			}
		}
	}
	// Add names without a prefix last: for a part db, DB_HOST is the same either way.
	for _, p := range mains(parts) {
		for name, value := range kinds.Of(p.Kind).Exports(p).Common {
			if strings.HasSuffix(name, "_SOCKET") && value == "" {
				continue
			}
			if _, taken := vars[name]; !taken {
				vars[name] = value
			}
		}
	}
	for name, file := range map[string]string{authority: m.Authority, bundle: m.Bundle} {
		if file != "" {
			vars[name] = file
		}
	}
	for name, value := range own {
		vars[name] = stackfile.Expand(string(value), func(path []string) string {
			if len(path) == 3 {
				return site(path[1], path[2])
			}
			return fields[path[0]][path[1]]
		})
	}
	var out []string
	for _, name := range slices.Sorted(maps.Keys(vars)) {
		out = append(out, name+"="+vars[name])
	}
	return out
}

// The variables that tell programs which certificates to trust.
const (
	authority = "NODE_EXTRA_CA_CERTS" // beside those that Node.js brings
	bundle    = "SSL_CERT_FILE"       // instead of OpenSSL's own
)

// reach returns how a part is reached, by the fields that placeholders name. It returns nil for web servers and
// runtimes: other parts do not reach them.
func reach(p kind.Part, k kind.Kind) map[string]string {
	if !p.Role.Store() && p.Role != kind.RoleApp || p.Want.Worker() {
		return nil
	}
	e := k.Exports(p)
	fields := map[string]string{
		"url":      e.URL,
		"user":     p.User,
		"password": p.Password,
		"database": p.Database,
		"socket":   p.Socket,
	}
	if p.Port != 0 {
		fields["host"], fields["port"] = p.HostName(), fmt.Sprint(p.Port)
	}
	maps.Copy(fields, e.Fields)
	for _, more := range k.Needs(p.Want).More {
		if port := p.Ports[more.Name]; port != 0 {
			fields[more.Field()] = fmt.Sprint(port)
		}
	}
	if e.Database != "" {
		fields["database"] = e.Database
	}
	if e.NoLogin {
		fields["user"], fields["password"] = "", ""
	}
	if k.Traits().Pages { // the part's password is for its inbox only
		fields["password"], fields["socket"] = "", ""
	}
	return fields
}

// mains returns, for each sort of store, the part that names without a prefix stand for: the only one, or the one
// marked main.
func mains(parts []kind.Part) []kind.Part {
	bySort := map[kind.Role][]kind.Part{}
	for _, p := range parts {
		if p.Role.Store() {
			bySort[p.Role] = append(bySort[p.Role], p)
		}
	}
	var out []kind.Part
	for _, role := range slices.Sorted(maps.Keys(bySort)) {
		all := bySort[role]
		if len(all) > 1 {
			all = slices.DeleteFunc(all, func(p kind.Part) bool { return !p.Want.Main })
		}
		if len(all) == 1 {
			out = append(out, all[0])
		}
	}
	return out
}

// Give sets each part's environment and the folders that come first on its PATH. It returns the folders that come first
// on the PATH of the stack's commands. vars is what Variables returned; parts that run the project's code, or that use
// other parts, get them.
func Give(parts []kind.Part, kinds kind.List, vars []string, m Machine) (path []string) {
	for i := range parts {
		p := &parts[i]
		p.Path = kinds.Of(p.Kind).Folders(*p)
		path = append(path, p.Path...)
	}
	for i := range parts {
		p := &parts[i]
		others := slices.DeleteFunc(slices.Clone(path), func(dir string) bool { return slices.Contains(p.Path, dir) })
		p.Env = []string{
			"HOME=" + m.Home,
			"USER=" + m.User,
			"LOGNAME=" + m.User,
			"LANG=" + m.Lang,
			// If two parts run different versions of one runtime, each finds its own first.
			"PATH=" + joined(slices.Concat(p.Path, others, []string{m.Path})),
		}
		if p.Role == kind.RoleRuntime || p.Role == kind.RoleApp || len(p.Uses) > 0 {
			p.Env = append(p.Env, vars...)
		}
	}
	return path
}

func joined(folders []string) string { return strings.Join(folders, string(os.PathListSeparator)) }

// Command returns the environment of a command that a user runs: the user's own variables, then the stack's, with
// folders in front of PATH. Each variable occurs once. If the user set variables that name trusted certificates, those
// stay: they may include other authorities.
func Command(user, vars, folders []string) []string {
	env := map[string]string{}
	var names []string
	set := func(v string) {
		name, value, _ := strings.Cut(v, "=")
		if _, known := env[name]; !known {
			names = append(names, name)
		}
		env[name] = value
	}
	for _, v := range user {
		set(v)
	}
	for _, v := range vars {
		if name, _, _ := strings.Cut(v, "="); (name == authority || name == bundle) && env[name] != "" {
			continue
		}
		set(v)
	}
	set("PATH=" + joined(append(slices.Clone(folders), env["PATH"])))
	out := make([]string, len(names))
	for i, name := range names {
		out[i] = name + "=" + env[name]
	}
	return out
}
