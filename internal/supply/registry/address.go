package registry

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"dravit/internal/home"
	"dravit/internal/pattern"
	"dravit/internal/supply"
)

// ErrNoSource says that neither the settings nor the machine's own client name a registry.
var ErrNoSource = errors.New("no source is known")

// AddressOf returns the address of the registry that this machine's own client uses: what the user's environment or
// .npmrc names, else what the client npm answers, or, if no source is asked, has answered. A project's .npmrc does not
// count: a repository must not choose where programs come from.
func AddressOf(ctx context.Context, here supply.Here, userHome string, getenv func(string) string) (string, error) {
	for _, name := range []string{"npm_config_registry", "NPM_CONFIG_REGISTRY"} {
		if address := getenv(name); address != "" {
			return address, nil
		}
	}
	if text, err := os.ReadFile(filepath.Join(userHome, ".npmrc")); err == nil {
		if m := pattern.Of(`(?m)^\s*registry\s*=\s*["']?([^"'\s]+)`).FindSubmatch(text); m != nil {
			return string(m[1]), nil
		}
	}
	answered := here.Path("sources", "client.json")
	if here.Known {
		var address string
		err := home.ReadDerived(answered, &address)
		if err == nil && address == "" {
			err = ErrNoSource
		}
		return address, err
	}
	npm, err := exec.LookPath("npm")
	if err != nil {
		return "", ErrNoSource
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, npm, "config", "get", "registry")
	cmd.Dir = userHome
	out, err := cmd.Output()
	if address := strings.TrimSpace(string(out)); err == nil && strings.HasPrefix(address, "http") {
		if err := os.MkdirAll(filepath.Dir(answered), 0o700); err != nil {
			return "", err
		}
		return address, home.WriteCache(answered, address)
	}
	return "", ErrNoSource
}
