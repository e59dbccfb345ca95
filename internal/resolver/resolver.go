// Package resolver asks the system's resolver for a name, as programs in other languages do.
package resolver

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os/exec"
	"strings"
	"time"
)

// ErrUnknown says that the resolver does not know the name.
var ErrUnknown = errors.New("none from the system's resolver")

// Addresses returns the addresses of a host name, and waits at most a second. It asks through getent if the system has
// it: Go's own resolver, which a static program contains, ignores the system's modules.
func Addresses(ctx context.Context, host string) ([]netip.Addr, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	var texts []string
	if getent, err := exec.LookPath("getent"); err == nil {
		out, err := exec.CommandContext(ctx, getent, "ahosts", host).Output()
		if err != nil {
			return nil, ErrUnknown
		}
		for line := range strings.Lines(string(out)) {
			if f := strings.Fields(line); len(f) > 0 {
				texts = append(texts, f[0])
			}
		}
	} else if texts, err = net.DefaultResolver.LookupHost(ctx, host); err != nil {
		return nil, ErrUnknown
	}
	var all []netip.Addr
	for _, text := range texts {
		if a, err := netip.ParseAddr(text); err == nil {
			all = append(all, a)
		}
	}
	if len(all) == 0 {
		return nil, ErrUnknown
	}
	return all, nil
}

// Loopback reports whether a name resolves to loopback addresses only.
func Loopback(ctx context.Context, host string) bool {
	all, err := Addresses(ctx, host)
	for _, a := range all {
		if !a.IsLoopback() {
			return false
		}
	}
	return err == nil
}
