package supply

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"dravit/internal/pattern"
)

// document is what a registry says of a package (npm's "abbreviated" package document).
type document struct {
	Versions map[string]struct {
		Dist struct {
			Tarball   string `json:"tarball"`
			Integrity string `json:"integrity"` // algorithms and digests (w3.org, "Subresource Integrity")
		} `json:"dist"`
		Engines json.RawMessage `json:"engines"`
	} `json:"versions"`
}

// longestDocument is how long a package document may be, in bytes.
const longestDocument = 64 << 20

// ErrNoSource says that neither the settings nor the machine's own client name a registry.
var ErrNoSource = errors.New("no source is known")

// AddressOf returns the address of the registry that this machine's own client uses: what the user's environment or
// .npmrc names, else what the client npm answers. A project's .npmrc does not count: a repository must not choose where
// programs come from.
func AddressOf(ctx context.Context, userHome string, getenv func(string) string) (string, error) {
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
		return address, nil
	}
	return "", ErrNoSource
}

// document reads a package document.
func (s Supplier) document(ctx context.Context, name string) (document, error) {
	var d document
	address := strings.TrimSuffix(s.Address, "/") + "/" + strings.ReplaceAll(name, "/", "%2f")
	resp, err := secured.ask(ctx, http.MethodGet, address, map[string]string{
		"Accept": "application/vnd.npm.install-v1+json, application/json;q=0.8"})
	if err != nil {
		return d, err
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(io.LimitReader(resp.Body, longestDocument)).Decode(&d); err != nil {
		return d, fmt.Errorf("%s answers with no package document: %w", address, err)
	}
	return d, nil
}

// size returns how long a file is, in bytes, or 0 if the registry does not say.
func (s Supplier) size(ctx context.Context, address string) (int64, error) {
	resp, err := secured.ask(ctx, http.MethodHead, address, nil)
	var status statusError
	if errors.As(err, &status) { // it does not answer that; the download will show
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	resp.Body.Close()
	return max(0, resp.ContentLength), nil
}
