package registry

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"dravit/internal/home"
	"dravit/internal/supply/fetch"
)

// document is what a registry says of a package (npm's "abbreviated" package document), as it is kept, too.
type document struct {
	Versions map[string]published `json:"versions"`

	// Of a kept one:

	Address string           `json:"address,omitempty"` // of the registry
	Sizes   map[string]int64 `json:"sizes,omitempty"`   // in bytes, of the files that were asked for, by address
}

// published is a release of a package.
type published struct {
	Dist struct {
		Tarball   string `json:"tarball"`
		Integrity string `json:"integrity"` // algorithms and digests (w3.org, "Subresource Integrity")
	} `json:"dist"`
	Engines json.RawMessage `json:"engines,omitempty"`
}

// documentFile keeps, in a source's folder, what a registry said of a package.
const documentFile = "document.json"

// longestDocument is how long a package document may be, in bytes.
const longestDocument = 64 << 20

// route is how the registry is asked.
func (s *Source) route() fetch.Route {
	if fetch.CheckFolder(s.Address) == nil {
		return fetch.Exported
	}
	r := fetch.Secured
	r.LogIn = s.LogIn
	return r
}

// kept returns the file that keeps what the registry said of a package.
func (s *Source) kept(name string) string {
	return filepath.Join(s.Said(s.Address, name), documentFile)
}

// document reads a package document, or what was kept of it if no source is asked.
func (s *Source) document(ctx context.Context, name string) (document, error) {
	var before, d document
	if err := home.ReadDerived(s.kept(name), &before); err != nil || s.Known {
		return before, err
	}
	address := strings.TrimSuffix(s.Address, "/") + "/" + strings.ReplaceAll(name, "/", "%2f")
	resp, err := s.route().Ask(ctx, http.MethodGet, address, map[string]string{
		"Accept": "application/vnd.npm.install-v1+json, application/json;q=0.8"})
	if err != nil {
		return d, err
	}
	defer resp.Body.Close()
	if err := json.NewDecoder(io.LimitReader(resp.Body, longestDocument)).Decode(&d); err != nil {
		return d, fmt.Errorf("%s answers with no package document: %w", address, err)
	}
	if err := d.resolve(s.Address); err != nil {
		return d, err
	}
	d.Address, d.Sizes = s.Address, before.Sizes // a release never changes
	return d, s.keep(name, d)
}

// resolve makes the addresses of files absolute: an exported folder has them relative to itself.
func (d document) resolve(address string) error {
	base, err := url.Parse(strings.TrimSuffix(address, "/") + "/")
	if err != nil {
		return err
	}
	for name, r := range d.Versions {
		at, err := base.Parse(r.Dist.Tarball)
		if err != nil {
			delete(d.Versions, name) // it cannot be fetched
			continue
		}
		r.Dist.Tarball = at.String()
		d.Versions[name] = r
	}
	return nil
}

func (s *Source) keep(name string, d document) error {
	if fetch.CheckFolder(s.Address) == nil {
		return nil // it is at hand
	}
	if err := os.MkdirAll(filepath.Dir(s.kept(name)), 0o700); err != nil {
		return err
	}
	return home.WriteCache(s.kept(name), d)
}

// size returns how long the file of a package is, in bytes, or 0 if the registry does not say.
func (s *Source) size(ctx context.Context, name string, d document, address string) (int64, error) {
	if bytes, ok := d.Sizes[address]; ok || s.Known {
		return bytes, nil
	}
	resp, err := s.route().Ask(ctx, http.MethodHead, address, nil)
	var status fetch.StatusError
	if errors.As(err, &status) { // it does not answer that; the download will show
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	resp.Body.Close()
	if d.Sizes == nil {
		d.Sizes = map[string]int64{}
	}
	d.Sizes[address] = max(0, resp.ContentLength)
	return d.Sizes[address], s.keep(name, d)
}
