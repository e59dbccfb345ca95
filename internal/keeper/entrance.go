package keeper

import (
	"errors"
	"slices"

	"dravit/internal/gateway"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/materialise"
)

// gatewayID is the id under which the gateway's own state is kept, as if it were a stack.
const gatewayID = "gateway"

// openGateway starts the gateway where it does not run, and tells it what it serves.
func (k *Keeper) openGateway(port, secure int) error {
	k.entrance.Lock()
	defer k.entrance.Unlock()
	table, err := k.writeTable()
	if err != nil {
		return err
	}
	_, _, err = k.gateway.begin(func() (materialise.Spec, error) { return gateway.Spec(k.home, k.self, port, secure, table) }, nil)
	return err
}

// writeTable writes what the gateway serves. A gateway that runs notices new routes by itself. The caller holds entrance.
func (k *Keeper) writeTable() (gateway.Table, error) {
	var t gateway.Table
	for _, s := range k.everyStack() {
		s.mu.Lock()
		if len(s.parts) > 0 {
			t.Resolver = max(t.Resolver, s.spec.Resolver)
			for _, site := range s.spec.Sites {
				s.route(site, &t)
			}
		}
		s.mu.Unlock()
	}
	slices.SortFunc(t.Doors, func(a, b gateway.Door) int { return a.Port - b.Port })
	err := gateway.WriteTable(k.home, t)
	k.table = gateway.TableStamp(k.home)
	return t, err
}

// reroute tells the gateway what has become of the parts behind its sites: whom nobody need wait for, and who is back.
func (k *Keeper) reroute() {
	k.entrance.Lock()
	defer k.entrance.Unlock()
	if _, err := k.writeTable(); err != nil {
		k.log.Error("gateway", "error", err)
	}
}

// comesBack reports whether a part that dies is back soon, so that requests may wait for it. The caller holds mu.
func (s *stack) comesBack(name string) bool {
	p, runs := s.parts[name]
	if !runs || p.status.State == lifecycle.Failed {
		return false
	}
	return p.status.State != lifecycle.Pausing || s.held[name]
}

// route adds what leads to a site. The caller holds mu.
func (s *stack) route(site materialise.Site, t *gateway.Table) {
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
			Network:    network,
			Address:    address,
			Halted:     !runs,
			Held:       s.held[site.App],
			AppNetwork: appNetwork,
			AppAddress: appAddress,
			Buffered:   app.Role == kind.RoleRuntime,
			Private:    s.keeper.kinds.TraitsOf(p.Kind).Inbox,
		})
	}
	if site.Network != 0 {
		t.Doors = append(t.Doors, gateway.Door{Port: site.Network, Host: site.Host})
	}
}

// closeGatewayIfIdle brings the gateway up to date, and ends it with the last stack.
func (k *Keeper) closeGatewayIfIdle() {
	k.entrance.Lock()
	defer k.entrance.Unlock()
	idle := true
	k.mu.Lock()
	for _, s := range k.stacks {
		s.mu.Lock()
		idle = idle && len(s.parts) == 0 && s.waiting == 0
		s.mu.Unlock()
	}
	k.mu.Unlock()
	table, err := k.writeTable()
	if idle { // also where the disk is full
		_, haltErr := k.gateway.halt(nil)
		err = errors.Join(err, haltErr)
	} else if err == nil {
		err = k.gateway.follow(table)
	}
	if err != nil {
		k.log.Error("gateway", "error", err)
	}
}

// follow has the gateway's stack, where it runs, open and close doors as a table says.
func (s *stack) follow(t gateway.Table) error {
	s.apply.Lock()
	defer s.apply.Unlock()
	s.mu.Lock()
	p, runs := s.spec.Part(gateway.KindName)
	s.mu.Unlock()
	if !runs {
		return nil
	}
	spec, err := gateway.Spec(s.keeper.home, p.Self, p.Port, p.Want.Port, t)
	if err == nil {
		s.take(spec)
	}
	return err
}
