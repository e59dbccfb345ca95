package survey

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"dravit/internal/proc"
)

// Port is a port on which a process listens.
type Port struct {
	Protocol string `json:"protocol"` // tcp or udp
	Address  string `json:"address"`
	Port     int    `json:"port"`
	PID      int    `json:"pid,omitempty"`
	Program  string `json:"program,omitempty"`
	User     string `json:"user,omitempty"`
	Stack    string `json:"stack,omitempty"` // the id of the stack whose live part holds it

	Since   time.Time `json:"since,omitzero"`    // when the program started
	Service string    `json:"service,omitempty"` // the service manager's unit that runs it
	// UserService says that it is a unit of the user's own manager (systemctl --user).
	UserService bool `json:"user_service,omitempty"`

	listener proc.Listener
}

// Ports returns the TCP and UDP ports on which a process listens. Owned adds which of them are of stacks, and Holders
// who holds the others. Where the system hides the sockets of other users, only those on the named ports are found, and
// nothing is known of them.
func Ports(named map[int]bool) ([]Port, error) {
	listeners, err := proc.Listeners()
	if err != nil {
		return nil, err
	}
	datagrams, _ := proc.UDPListeners() // few systems refuse to list UDP sockets, and their ports rarely matter
	all := []Port{}
	add := func(protocol string, l proc.Listener) {
		all = append(all, Port{Protocol: protocol, Address: l.Address, Port: l.Port, listener: l})
	}
	for _, l := range listeners {
		add("tcp", l)
	}
	for _, l := range datagrams {
		add("udp", l)
	}
	if !proc.ListsEverybody {
		all = append(all, hidden(all, named, proc.Taken)...)
	}
	slices.SortFunc(all, func(a, b Port) int {
		return cmp.Or(a.Port-b.Port, strings.Compare(a.Protocol+a.Address, b.Protocol+b.Address))
	})
	return all, nil
}

// Owned returns the ports with the stack whose live part holds each, as ours says by port.
func Owned(ports []Port, ours map[int]string) []Port {
	all := slices.Clone(ports)
	for i, p := range all {
		if p.listener != (proc.Listener{}) {
			all[i].Stack = ours[p.Port]
		}
	}
	return all
}

// Holders returns the ports with the processes that hold them, as far as the system tells this user: those in wanted,
// or all if it is nil. It examines every process, so only those should be wanted that somebody reads about.
func Holders(ports []Port, wanted map[int]bool) []Port {
	all := slices.Clone(ports)
	for i := range all {
		p := &all[i]
		if p.listener == (proc.Listener{}) || wanted != nil && !wanted[p.Port] {
			continue
		}
		h := proc.ListenerHolder(p.listener)
		p.PID, p.Program, p.User, p.Since = h.PID, h.Program, h.User, h.Since
		p.Service, p.UserService = h.Service, h.UserService
	}
	return all
}

// hidden returns those of the named TCP ports that are taken though nobody is listed who has them.
func hidden(listed []Port, named map[int]bool, taken func(port int) bool) []Port {
	var all []Port
	for _, port := range slices.Sorted(maps.Keys(named)) {
		seen := slices.ContainsFunc(listed, func(p Port) bool { return p.Protocol == "tcp" && p.Port == port })
		if port > 0 && !seen && taken(port) {
			all = append(all, Port{Protocol: "tcp", Address: "*", Port: port})
		}
	}
	return all
}
