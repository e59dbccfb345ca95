package stack

import (
	"context"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"

	"dravit/internal/account"
	"dravit/internal/certificates"
	"dravit/internal/gateway"
	"dravit/internal/keeper"
	"dravit/internal/ledger"
	"dravit/internal/materialise"
	"dravit/internal/resolver"
	"dravit/internal/setup"
)

// Name is one host name of a stack.
type Name struct {
	Name     string       `json:"name"` // *.NAME stands for every name below NAME
	Stack    string       `json:"stack"`
	Site     string       `json:"site"`
	Part     string       `json:"part"` // the web server
	URL      string       `json:"url"`
	HTTPSURL string       `json:"secure_url"`
	Resolves []netip.Addr `json:"resolves"` // the answer of the system's resolver now
	Here     bool         `json:"here"`     // all addresses are this machine's
	Served   bool         `json:"served"`   // its stack and the gateway run
}

// Names are all host names, and the authority of their certificates.
type Names struct {
	Names     []Name `json:"names"`
	Authority string `json:"authority"` // the file of its certificate; "" before the first start
	Trusted   bool   `json:"trusted"`   // by the system's store
	HTTP      int    `json:"http"`      // the gateway's ports
	HTTPS     int    `json:"https"`
	DNSPort   int    `json:"resolver"`  // for DNS; 0 if every name ends with localhost
	InHosts   int    `json:"in_hosts"`  // how many names Dravit's block in the hosts file has
	InSystem  bool   `json:"in_system"` // the system's resolver is set up to ask Dravit's
}

// Place says where this user's set-up of the system goes.
func (m *Machine) Place() setup.Place {
	return setup.Place{Home: m.Home, Root: "/", User: account.Current().Username, Mac: runtime.GOOS == "darwin"}
}

// Hosts returns the sorted host names of every stack, running or not, with their suffixes other than localhost and the
// port of Dravit's resolver.
func (m *Machine) Hosts() (hosts, suffixes []string, dnsPort int, err error) {
	book, err := ledger.Read(m.Home)
	if err != nil {
		return nil, nil, 0, err
	}
	for _, s := range book.Stacks {
		for _, host := range s.Hosts {
			hosts = append(hosts, host)
		}
	}
	slices.Sort(hosts)
	return slices.Compact(hosts), book.Suffixes(), book.DNSPort, nil
}

// Names returns every host name of every stack on this machine.
func (m *Machine) Names(ctx context.Context) (Names, error) {
	out := Names{Names: []Name{}}
	book, err := ledger.Read(m.Home)
	if err != nil {
		return out, err
	}
	opened := gateway.Seen(m.Home).Alive()
	out.HTTP, out.HTTPS, out.DNSPort = book.HTTPPort, book.HTTPSPort, book.DNSPort
	place := m.Place()
	out.InHosts, out.InSystem = len(place.HostsNames()), place.ResolverSet()
	for id := range book.Stacks {
		spec, err := materialise.Read(m.Home, id, m.Kinds)
		if err != nil {
			return out, err
		}
		runs := opened && keeper.ShouldRun(m.Home, id)
		for _, site := range spec.Sites {
			for _, host := range append([]string{site.Host}, site.Aliases...) {
				address := func(url string) string { return strings.Replace(url, "//"+site.Host, "//"+host, 1) }
				out.Names = append(out.Names, Name{
					Name:     host,
					Stack:    spec.Name,
					Site:     site.Name,
					Part:     site.Server,
					URL:      address(site.URL),
					HTTPSURL: address(site.HTTPSURL),
					Served:   runs,
				})
			}
		}
	}
	slices.SortFunc(out.Names, func(a, b Name) int { return strings.Compare(a.Stack+" "+a.Name, b.Stack+" "+b.Name) })
	var wg sync.WaitGroup
	limit := make(chan struct{}, 16)
	for i := range out.Names {
		n := &out.Names[i]
		n.Resolves = []netip.Addr{}
		wg.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			if all, err := resolver.Addresses(ctx, strings.Replace(n.Name, "*", "dravit-any", 1)); err == nil {
				n.Resolves = all
				n.Here = !slices.ContainsFunc(all, func(a netip.Addr) bool { return !a.IsLoopback() })
			}
		})
	}
	wg.Wait()
	if file := certificates.File(m.Home); exists(file) {
		out.Authority, out.Trusted = file, certificates.Trusted(m.Home)
	}
	return out, ctx.Err()
}

func exists(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}
