package keeper

import (
	"context"
	"errors"
	"slices"
	"sync"

	"dravit/internal/gateway"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
)

// gatewayID is the id under which the gateway's own state is kept, as if the gateway were a stack.
const gatewayID = "gateway"

// gatewayRunner supervises the gateway, and writes the table that tells it what to serve.
type gatewayRunner struct {
	keeper *Keeper
	runner *stackRunner // runs the gateway's only part

	mu    sync.Mutex // held while the gateway is started or stopped, and while its table is written
	stamp string     // stamp of the table as this keeper wrote it; guarded by mu
}

func newGatewayRunner(k *Keeper) *gatewayRunner {
	return &gatewayRunner{keeper: k, runner: newStack(k, gatewayID)}
}

// open starts the gateway on these ports if it does not run, and writes its table.
func (g *gatewayRunner) open(ctx context.Context, http, https int) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	table, err := g.writeTable()
	if err != nil {
		return err
	}
	_, _, err = g.runner.begin(ctx, func() (materialise.Spec, error) {
		return gateway.Spec(g.keeper.home, g.keeper.self, http, https, table)
	}, request{})
	return err
}

// openAgain starts the gateway for the sites that run, after the gateway's folder was deleted.
func (g *gatewayRunner) openAgain(ctx context.Context) {
	for _, s := range g.keeper.everyStack() {
		s.mu.Lock()
		runs, spec := len(s.parts) > 0 && len(s.spec.Sites) > 0, s.spec
		s.mu.Unlock()
		if runs {
			if err := g.open(ctx, spec.HTTPPort, spec.HTTPSPort); err != nil {
				g.keeper.log.Error("cannot start the gateway again", "error", err)
			}
			return
		}
	}
}

// writeTable writes what the gateway serves. A running gateway notices new routes by itself. The caller holds mu.
func (g *gatewayRunner) writeTable() (gateway.Table, error) {
	var t gateway.Table
	for _, s := range g.keeper.everyStack() {
		s.mu.Lock()
		if len(s.parts) > 0 {
			t.DNSPort = max(t.DNSPort, s.spec.DNSPort)
			for _, site := range s.spec.Sites {
				s.route(site, &t)
			}
		}
		s.mu.Unlock()
	}
	slices.SortFunc(t.Network, func(a, b gateway.NetworkListener) int { return a.Port - b.Port })
	err := gateway.WriteTable(g.keeper.home, t)
	g.stamp = gateway.TableStamp(g.keeper.home)
	return t, err
}

// reroute tells the gateway what has changed for the parts behind its sites: which ones requests need not wait for, and
// which ones are back.
func (g *gatewayRunner) reroute() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if _, err := g.writeTable(); err != nil {
		g.keeper.log.Error("cannot write the gateway's table", "error", err)
	}
}

// checkTable writes the table again if another program changed or deleted its file.
func (g *gatewayRunner) checkTable() {
	g.mu.Lock()
	changed := g.stamp != "" && gateway.TableStamp(g.keeper.home) != g.stamp
	g.mu.Unlock()
	if changed {
		g.keeper.log.Warn("the gateway's table was changed by another program: it is written again")
		g.reroute()
	}
}

// closeIfIdle updates the gateway, and stops it if no stack runs.
func (g *gatewayRunner) closeIfIdle(ctx context.Context) {
	g.mu.Lock()
	defer g.mu.Unlock()
	idle := true
	g.keeper.mu.Lock()
	for _, s := range g.keeper.stacks {
		s.mu.Lock()
		idle = idle && len(s.parts) == 0 && s.waiting == 0
		s.mu.Unlock()
	}
	g.keeper.mu.Unlock()
	table, err := g.writeTable()
	if idle { // even if the disk is full
		_, stopErr := g.runner.stop(ctx, nil)
		err = errors.Join(err, stopErr)
	} else if err == nil {
		err = g.follow(table)
	}
	if err != nil {
		g.keeper.log.Error("cannot update the gateway", "error", err)
	}
}

// follow has a running gateway open and close network listeners as its table says.
func (g *gatewayRunner) follow(t gateway.Table) error {
	g.runner.apply.Lock()
	defer g.runner.apply.Unlock()
	g.runner.mu.Lock()
	was := g.runner.spec
	g.runner.mu.Unlock()
	p, runs := was.Part(gateway.KindName)
	if !runs {
		return nil
	}
	spec, err := gateway.Spec(g.keeper.home, p.Self, was.HTTPPort, was.HTTPSPort, t)
	if err == nil {
		g.runner.updateSites(spec)
	}
	return err
}

// comesBack reports whether a part that died will be back soon, so that requests may wait for it. The caller holds mu.
func (s *stackRunner) comesBack(name string) bool {
	p, runs := s.parts[name]
	if !runs || p.status.State == lifecycle.Failed {
		return false
	}
	return p.status.State != lifecycle.Pausing || s.restarting[name]
}

// writers returns the parts whose logs may say why a page of a site failed: those that make its pages, and, as the
// server of a front end may pass requests on, the other servers of the project's own. The caller holds mu.
func (s *stackRunner) writers(site materialise.Site) []string {
	names := append([]string{site.Server}, s.behind(site)...)
	if app, ok := s.spec.Part(site.App); ok && app.Role == kind.RoleApp {
		for _, p := range s.spec.Parts {
			if p.Role == kind.RoleApp && !p.Want.Worker() {
				names = append(names, p.Name)
			}
		}
	}
	all := []string{}
	for _, name := range names {
		if name != "" && !slices.Contains(all, name) {
			all = append(all, name)
		}
	}
	return all
}

// route adds the routes of a site. The caller holds mu.
func (s *stackRunner) route(site materialise.Site, t *gateway.Table) {
	p, ok := s.spec.Part(site.Server)
	if !ok {
		return
	}
	network, address := p.Entrance()
	x, runs := s.parts[p.Name]
	runs = runs && x.status.State != lifecycle.Failed
	app, _ := s.spec.Part(site.App)
	appNetwork, appAddress := "", ""
	if s.comesBack(app.Name) {
		appNetwork, appAddress = app.Entrance()
	}
	for _, host := range append([]string{site.Host}, site.Aliases...) {
		t.Routes = append(t.Routes, gateway.Route{
			Host:       host,
			Stack:      s.spec.Name,
			StackID:    s.id,
			Site:       site.Name,
			Server:     site.Server,
			App:        site.App,
			Behind:     s.writers(site),
			Network:    network,
			Address:    address,
			Halted:     !runs,
			Held:       slices.ContainsFunc(s.behind(site), func(name string) bool { return s.restarting[name] }),
			AppNetwork: appNetwork,
			AppAddress: appAddress,
			Buffered:   app.Role == kind.RoleRuntime,
			Private:    s.keeper.kinds.TraitsOf(p.Kind).Pages,
			Root:       site.Root,
			Within:     site.Within,
		})
	}
	if site.NetworkPort != 0 {
		t.Network = append(t.Network, gateway.NetworkListener{Port: site.NetworkPort, Host: site.Host})
	}
}
