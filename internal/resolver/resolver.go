// Package resolver asks the system's resolver for a name, as programs in other languages do.
package resolver

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os/exec"
	"strings"
	"time"
)

// ErrUnknown says that the resolver does not know the name.
var ErrUnknown = errors.New("none from the system's resolver")

var errNoAnswer = errors.New("no answer from the system's resolver within a second")

// getentUnknown is the exit code of getent(1) for a name that is not there; others are failures.
const getentUnknown = 2

// meaning tells a name that is not there from a resolver that fails.
func meaning(err error) error {
	var failed *net.DNSError
	switch {
	case errors.As(err, &failed) && failed.IsNotFound:
		return ErrUnknown
	case errors.As(err, &failed) && failed.IsTimeout, errors.Is(err, context.DeadlineExceeded):
		return errNoAnswer
	}
	return fmt.Errorf("the system's resolver failed: %w", err)
}

// Addresses returns the addresses of a host name, and waits at most a second. It asks through getent if the system has
// it: Go's own resolver, which a static program contains, ignores the system's modules.
func Addresses(ctx context.Context, host string) ([]netip.Addr, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	var texts []string
	if getent, err := exec.LookPath("getent"); err == nil {
		out, err := exec.CommandContext(ctx, getent, "ahosts", host).Output()
		var exit *exec.ExitError
		switch {
		case ctx.Err() != nil:
			return nil, errNoAnswer
		case errors.As(err, &exit) && exit.ExitCode() == getentUnknown:
			return nil, ErrUnknown
		case err != nil:
			return nil, fmt.Errorf("the system's resolver failed: %w", err)
		}
		for line := range strings.Lines(string(out)) {
			if f := strings.Fields(line); len(f) > 0 {
				texts = append(texts, f[0])
			}
		}
	} else if texts, err = net.DefaultResolver.LookupHost(ctx, host); err != nil {
		return nil, meaning(err)
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
