package stack

import (
	"context"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"

	"dravit/internal/certificates"
	"dravit/internal/gateway"
	"dravit/internal/home"
	"dravit/internal/keeper"
	"dravit/internal/ledger"
	"dravit/internal/materialise"
	"dravit/internal/resolver"
)

// Name is one host name of a stack on this machine.
type Name struct {
	Name     string       `json:"name"` // *.NAME stands for every name below NAME
	Stack    string       `json:"stack"`
	Site     string       `json:"site"`
	Part     string       `json:"part"` // the web server
	URL      string       `json:"url"`
	Secure   string       `json:"secure_url"`
	Resolves []netip.Addr `json:"resolves"` // by the system's resolver, here and now
	Here     bool         `json:"here"`     // all of them are this machine
	Served   bool         `json:"served"`   // its stack runs, and the gateway does
}

// Names is every name, and the authority behind their certificates.
type Names struct {
	Names     []Name `json:"names"`
	Authority string `json:"authority"` // the file of its certificate; "" before the first start
	Trusted   bool   `json:"trusted"`   // by the system's store
	HTTP      int    `json:"http"`      // the gateway's ports
	HTTPS     int    `json:"https"`
}

// Names returns every host name of every stack on this machine.
func (m *Machine) Names(ctx context.Context) (Names, error) {
	out := Names{Names: []Name{}}
	book, err := ledger.Read(m.Home)
	if err != nil {
		return out, err
	}
	opened := home.Locked(m.Home.Stack(gateway.KindName, "state", gateway.KindName+".lock"))
	out.HTTP, out.HTTPS = book.Gateway, book.Secure
	for id := range book.Stacks {
		spec, err := materialise.Read(m.Home, id)
		if err != nil {
			return out, err
		}
		runs := opened && keeper.Wished(m.Home, id)
		for _, site := range spec.Sites {
			for _, host := range append([]string{site.Host}, site.Aliases...) {
				address := func(url string) string { return strings.Replace(url, "//"+site.Host, "//"+host, 1) }
				out.Names = append(out.Names, Name{Name: host, Stack: spec.Name, Site: site.Name, Part: site.Server, URL: address(site.URL), Secure: address(site.Secure), Served: runs})
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
