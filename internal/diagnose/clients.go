package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// Clients are the connections to a store that has a limit of them.
type Clients struct {
	Limit   int
	Setting string // that raises the limit
	Groups  []ClientGroup
}

// ClientGroup is the connections of one process to a store.
type ClientGroup struct {
	Program string // "" if this user may not know, or if they came over the Unix socket
	PID     int
	Count   int
	Idle    time.Duration // how long the most idle of them has asked for nothing
}

func (g ClientGroup) String() string {
	who := "processes over the Unix socket, or of another user"
	if g.PID != 0 {
		who = fmt.Sprintf("%s (pid %d)", g.Program, g.PID)
	}
	idle := "asking now"
	if g.Idle > 0 {
		idle = "idle for up to " + g.Idle.Round(time.Second).String()
	}
	return fmt.Sprintf("%d of %s, %s", g.Count, who, idle)
}

// who returns how many connections there are, and whose, the most first.
func (c *Clients) who() (used int, said []string) {
	groups := slices.Clone(c.Groups)
	slices.SortFunc(groups, func(a, b ClientGroup) int { return cmp.Compare(b.Count, a.Count) })
	for _, g := range groups {
		used += g.Count
		said = append(said, g.String())
	}
	return used, said
}

// usedUp says who has the connections of the store that refused an application one, and raises their limit.
func (d *doctor) usedUp(c *Cause) {
	store, _, ok := d.storeOf(*c)
	if !ok {
		return
	}
	p, _ := d.partOf(store.Name)
	if p.Clients == nil || c.Subject == about.Part(store.Name) {
		return
	}
	used, said := p.Clients.who()
	c.Evidence = append(c.Evidence, fmt.Sprintf("part %s accepts %d connections; %d are in use now", store.Name,
		p.Clients.Limit, used))
	c.Evidence = append(c.Evidence, said...)
	c.Edit = append(c.Edit, stackfile.Change{Table: "part." + store.Name + ".settings", Key: p.Clients.Setting,
		Value: 2 * p.Clients.Limit})
}

// clients reports whether the store accepts no more connections, and adds the cause.
func (d *doctor) clients(p PartFacts) bool {
	if p.Clients == nil {
		return false
	}
	used, evidence := p.Clients.who()
	if used < p.Clients.Limit {
		return false
	}
	name := p.Spec.Name
	d.add(
		seen,
		cause.ConnectionsUsedUp,
		about.Part(name),
		fmt.Sprintf("all %d connections that part %s accepts are in use", p.Clients.Limit, name),
		fmt.Sprintf(
			"make the application close or share them, or raise the limit in dravit.toml:"+
				trouble.Lines("[part.%s]", "settings = { %s = %d }"),
			name,
			p.Clients.Setting,
			2*p.Clients.Limit,
		),
		evidence...)
	return true
}
