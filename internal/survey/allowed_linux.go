package survey

import (
	"context"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"

	"dravit/internal/pattern"
)

// lowestPort returns the first port that needs no privilege (ip(7), ip_unprivileged_port_start), or 1 if this process
// may open any port.
func lowestPort() int {
	const bindService = 10 // capabilities(7): CAP_NET_BIND_SERVICE
	status, _ := os.ReadFile("/proc/self/status")
	if m := pattern.Of(`(?m)^CapEff:\s*([0-9a-f]+)`).FindSubmatch(status); m != nil {
		if caps, err := strconv.ParseUint(string(m[1]), 16, 64); err == nil && caps&(1<<bindService) != 0 {
			return 1
		}
	}
	text, err := os.ReadFile("/proc/sys/net/ipv4/ip_unprivileged_port_start")
	if n, bad := strconv.Atoi(strings.TrimSpace(string(text))); err == nil && bad == nil {
		return max(n, 1)
	}
	return 1024
}

// userNamespaces reports whether this user may create a user namespace, by creating one.
func userNamespaces(ctx context.Context) bool {
	cmd := exec.CommandContext(ctx, "/bin/true")
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWUSER | syscall.CLONE_NEWNS}
	return cmd.Run() == nil
}

// LowPorts returns the command that lets ordinary users open the ports from 80 on.
func LowPorts() string { return "sudo sysctl -w net.ipv4.ip_unprivileged_port_start=80" }
