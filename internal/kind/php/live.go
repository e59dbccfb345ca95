package php

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/pattern"
)

// LoadedModules asks FPM through the probe, and the command-line program with the part's configuration.
func (php) LoadedModules(ctx context.Context, p kind.Part) (kind.Proof, error) {
	var proof kind.Proof
	verdict, err := askFPM(ctx, p, "")
	if err != nil {
		return proof, fmt.Errorf("the web process: %w", err)
	}
	proof.Web = names(verdict.Extensions)
	ctx, cancel := context.WithTimeout(ctx, health.Deadline)
	defer cancel()
	cmd := exec.CommandContext(ctx, filepath.Join(p.Conf, "bin", "php"), "-m")
	cmd.Dir, cmd.Env = p.Project, p.Env
	out, err := cmd.Output()
	if err != nil {
		return proof, fmt.Errorf("the command-line program: %w", err)
	}
	var loaded []string
	for _, m := range moduleLine().FindAllStringSubmatch(string(out), -1) {
		loaded = append(loaded, m[1])
	}
	proof.Command = names(loaded)
	return proof, nil
}

// names returns extensions as their files are called, sorted.
func names(loaded []string) []string {
	out := []string{}
	for _, name := range loaded {
		out = append(out, canonical(name))
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Debug listens in place of the editor for the debugger's first packet (xdebug.org, "DBGp: connection initialization").
func (php) Debug(ctx context.Context, p kind.Part) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, health.Deadline)
	defer cancel()
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", kind.Loopback(p.Debug))
	if err != nil {
		return "", err
	}
	defer listener.Close()
	stop := context.AfterFunc(ctx, func() { listener.Close() })
	defer stop()
	asked := make(chan error, 1)
	go func() {
		_, err := askFPM(ctx, p, "XDEBUG_TRIGGER=dravit")
		if err != nil { // the debugger will not connect any more
			listener.Close()
		}
		asked <- err
	}()
	defer func() { cancel(); <-asked }()
	conn, err := listener.Accept()
	if err != nil {
		return "", errors.New("the debugger did not connect")
	}
	defer conn.Close()
	if deadline, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(deadline)
	}
	r := bufio.NewReader(conn)
	if _, err := r.ReadString(0); err != nil { // the packet's length
		return "", fmt.Errorf("the debugger's connection: %w", err)
	}
	packet, err := r.ReadString(0)
	if err != nil {
		return "", fmt.Errorf("the debugger's connection: %w", err)
	}
	if !strings.Contains(packet, "<init") ||
		!strings.Contains(packet, p.Name) && !strings.Contains(packet, "probe.php") {
		return "", fmt.Errorf("another program connected: %.60q", packet)
	}
	_, _ = conn.Write([]byte("detach -i 1\x00")) // the page goes on without an editor
	_ = conn.SetReadDeadline(time.Now().Add(time.Second))
	_, _ = r.ReadString(0)
	said := "it connected from the web process"
	if m := pattern.Of(`<engine version="([^"]+)"><!\[CDATA\[([^\]]+)\]\]>`).FindStringSubmatch(packet); m != nil {
		said = fmt.Sprintf("%s %s connected from the web process", m[2], m[1])
	}
	return said, nil
}

// DeepChecks check that every extension of the plan is loaded in the process that serves pages, and on the command
// line.
func (k php) DeepChecks(p kind.Part) []kind.DeepCheck {
	return []kind.DeepCheck{{Name: "extensions", Ask: func(ctx context.Context) error {
		proof, err := k.LoadedModules(ctx, p)
		if err != nil {
			return err
		}
		return cmp.Or(lacks(p, "in the web process", proof.Web), lacks(p, "on the command line", proof.Command))
	}}}
}

// lacks returns the planned extensions that are not among the loaded ones. A file may hold an extension with another
// name, as loaders of encoded scripts do: a loaded extension that no other file explains counts for it.
func lacks(p kind.Part, where string, loaded []string) error {
	var missing []string
	known := strings.Fields(p.Facts[factBuiltin])
	for _, m := range p.Modules {
		known = append(known, canonical(m.Name))
		if !slices.Contains(loaded, canonical(m.Name)) {
			missing = append(missing, m.Name)
		}
	}
	strangers := slices.DeleteFunc(slices.Clone(loaded), func(name string) bool {
		return php{}.OfOneProcess(name) || slices.Contains(known, name)
	})
	if len(missing) <= len(strangers) {
		return nil
	}
	return &kind.Miss{
		Expected: fmt.Sprintf("%d extensions %s", len(p.Modules), where),
		Got:      "it lacks " + strings.Join(missing, ", "),
	}
}
