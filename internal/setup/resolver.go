package setup

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/kind"
)

// resolver is one way to make the system's resolver ask Dravit's DNS port for some suffixes.
type resolver struct {
	files   map[string]string // what to write
	stale   []string          // files of an earlier set-up that are no longer needed
	refresh []string          // the command that makes the change effective; nil: none is needed
}

// Resolver returns the steps that make the system's resolver ask Dravit, on a port of loopback, for names below the
// suffixes. Without suffixes, the steps undo that. If the machine's resolver cannot be told about one suffix, it
// returns trouble.NoWay.
func (p Place) Resolver(suffixes []string, port int) ([]Step, error) {
	way, err := p.resolver(suffixes, port)
	if err != nil {
		return nil, err
	}
	var steps []Step
	for _, file := range sortedKeys(way.files) {
		step, err := p.write(file, way.files[file])
		if err != nil {
			return nil, err
		}
		steps = append(steps, step...)
	}
	for _, file := range way.stale {
		steps = append(steps, p.remove(file)...)
	}
	if len(steps) > 0 && way.refresh != nil {
		steps = append(steps, Step{way.refresh, os.Geteuid() != 0})
	}
	return steps, nil
}

// ResolverSet reports whether a file of Dravit's sets up the system's resolver.
func (p Place) ResolverSet() bool {
	way, err := p.resolver(nil, 0)
	return err == nil && slices.ContainsFunc(way.stale, exists)
}

const resolverHead = "# Written by Dravit for names of this machine's stacks: dravit " +
	"names resolver off takes it back.\n"

func (p Place) resolver(suffixes []string, port int) (resolver, error) {
	at := kind.Loopback(port)
	dnsmasq := ""
	for _, dir := range []string{p.path("etc/NetworkManager/dnsmasq.d"), p.path("etc/dnsmasq.d")} {
		if exists(dir) && p.asksItself() {
			dnsmasq = filepath.Join(dir, "dravit.conf")
			break
		}
	}
	switch {
	case p.Mac: // resolver(5): a file for each suffix
		way := resolver{files: map[string]string{}}
		for _, s := range suffixes {
			way.files[p.path("etc/resolver", s)] = resolverHead +
				fmt.Sprintf("nameserver %s\nport %d\n", kind.Host, port)
		}
		ours, _ := filepath.Glob(p.path("etc/resolver", "*"))
		for _, file := range ours {
			text, _ := os.ReadFile(file)
			if _, wanted := way.files[file]; !wanted && strings.HasPrefix(string(text), resolverHead) {
				way.stale = append(way.stale, file)
			}
		}
		return way, nil
	case exists(p.path("run/systemd/resolve/resolv.conf")): // resolved.conf(5)
		text := resolverHead + "[Resolve]\nDNS=" + at + "\nDomains=~" + strings.Join(suffixes, " ~") + "\n"
		return oneFile(p.path("etc/systemd/resolved.conf.d/dravit.conf"), text, suffixes, "systemctl",
			"restart", "systemd-resolved"), nil
	case dnsmasq != "": // dnsmasq(8)
		text := resolverHead
		for _, s := range suffixes {
			text += fmt.Sprintf("server=/%s/%s#%d\n", s, kind.Host, port)
		}
		refresh := []string{"systemctl", "restart", "dnsmasq"}
		if strings.Contains(dnsmasq, "NetworkManager") {
			refresh = []string{"systemctl", "reload", "NetworkManager"}
		}
		return oneFile(dnsmasq, text, suffixes, refresh...), nil
	}
	return resolver{}, NoWay("this machine's resolver asks the servers in "+p.path("etc/resolv.conf")+
		" for every name, and cannot be set up for one suffix", "dravit names hosts on")
}

func oneFile(file, text string, suffixes []string, refresh ...string) resolver {
	if len(suffixes) == 0 {
		return resolver{stale: []string{file}, refresh: refresh}
	}
	return resolver{files: map[string]string{file: text}, refresh: refresh}
}

// asksItself reports whether programs ask a resolver on this machine.
func (p Place) asksItself() bool {
	text, _ := os.ReadFile(p.path("etc/resolv.conf"))
	for line := range strings.Lines(string(text)) {
		if f := strings.Fields(line); len(f) == 2 && f[0] == "nameserver" &&
			(strings.HasPrefix(f[1], "127.") || f[1] == "::1") {
			return true
		}
	}
	return false
}
