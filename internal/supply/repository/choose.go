package repository

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"dravit/internal/debian"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/supply"
	"dravit/internal/version"
)

// unneeded matches packages that only scripts of packages need, or that bring half a system along. Dravit runs no such
// script, and makes itself what they would make.
var unneeded = pattern.New(`^(perl.*|libperl.*|debconf.*|cdebconf.*|adduser|passwd|ucf|dpkg|tar|init-system-helpers|` +
	`systemd.*|libsystemd-shared|procps|psmisc|lsb-base|sysvinit-utils|php-common|mime-support|mailcap|media-types|` +
	`sensible-utils|login.*|util-linux.*|base-.*|coreutils|sed|grep|gzip|bash|diffutils|findutils|hostname|` +
	`ncurses-.*|init|mount|bsdutils|debianutils|e2fsprogs|fdisk|mawk|gcc-.*-base|libpam-.*|cron.*|` +
	`openssl-provider-.*|locales.*|nginx-common|mariadb-common|mysql-common|postgresql-common|` +
	`postgresql-client-common|ssl-cert|galera.*|rsync|socat|libllvm.*|netbase|logrotate|iproute2|openssl)$`)

// Besides what a program depends on, each tree has what a running system would have: time zones, the locale C.UTF-8 and
// a shell; and, of packages without what they depend on, certificates and the program that makes namespaces.
var (
	always = []string{"tzdata", "libc-bin", "dash"}
	alone  = map[string]string{"ca-certificates": "usr/share/ca-certificates/", "util-linux": unshare}
)

// candidate is a package of a suite that carries a kind's program.
type candidate struct {
	in      distribution
	server  debian.Package
	series  string // what the pattern of its name matched
	version string
}

// candidates returns what the suites have, the newest first, and why one of them did not serve.
func candidates(suites []distribution, p kind.Packages) (all []candidate, failed error) {
	for _, x := range suites {
		if x.failed != nil {
			failed = cmp.Or(failed, x.failed)
			continue
		}
		for _, shape := range p.Servers {
			re := pattern.Of("^" + shape + "$")
			prefix, _, _ := strings.Cut(shape, "(")
			found := false
			for _, name := range x.lists.Names(prefix) {
				m := re.FindStringSubmatch(name)
				packages, _ := x.lists.Find(name)
				if m == nil || len(packages) == 0 {
					continue
				}
				found = true
				series := ""
				if len(m) > 1 {
					series = m[1]
				}
				all = append(all, candidate{x, packages[0], series, debian.Upstream(packages[0].Version)})
			}
			if found {
				break
			}
		}
	}
	slices.SortStableFunc(all, func(a, b candidate) int { return version.Compare(b.version, a.version) })
	return all, failed
}

// closure returns the packages of a candidate's tree, and which of the wanted extensions are in them.
func closure(c candidate, p kind.Packages, w supply.Wish) (all []debian.Package, extensions []string, err error) {
	roots := []debian.Relation{{Name: c.server.Name, Operator: "=", Version: c.server.Version}}
	add := func(name string) bool {
		packages, _ := c.in.lists.Find(name)
		if len(packages) == 0 {
			return false
		}
		if !slices.ContainsFunc(roots, func(r debian.Relation) bool { return r.Name == name }) {
			roots = append(roots, debian.Relation{Name: name})
		}
		return true
	}
	more := slices.Clone(p.With)
	if p.Interpreter == "" { // a script needs no system of its own
		more = append(more, always...)
	}
	for _, name := range more {
		add(kind.InSeries(name, c.series))
	}
	for i, name := range slices.Concat(w.Extensions, w.Also) {
		if p.Extension == nil {
			break
		}
		switch names := p.Extension(name, c.series); {
		case len(names) == 0 || slices.ContainsFunc(names, add):
			extensions = append(extensions, name)
		case i < len(w.Extensions):
			return nil, nil, fmt.Errorf("the suite %s has no extension %s for it", c.in.name, name)
		}
	}
	slices.Sort(extensions)
	all, err = c.in.lists.Closure(roots, func(name string) bool {
		root := slices.ContainsFunc(roots, func(r debian.Relation) bool { return r.Name == name })
		return !root && (unneeded().MatchString(name) || p.Left != nil && p.Left().MatchString(name))
	})
	for _, name := range slices.Sorted(maps.Keys(alone)) {
		if p.Interpreter != "" {
			break
		}
		packages, _ := c.in.lists.Find(name)
		if len(packages) > 0 && !slices.ContainsFunc(all, func(p debian.Package) bool { return p.Name == name }) {
			all = append(all, packages[0])
		}
	}
	return all, slices.Compact(extensions), err
}
