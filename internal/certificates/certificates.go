// Package certificates creates this user's certificate authority, which may certify Dravit's host names only, and the
// certificates of sites. No program trusts the authority until the user says so.
package certificates

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"dravit/internal/home"
)

// usual are the suffixes that an authority may always certify: RFC 6761 reserves them, so they belong to no one.
var usual = []string{"localhost", "test"}

const (
	authorityLife = 10 * 365 * 24 * time.Hour
	leafLife      = 30 * 24 * time.Hour
	renewBefore   = 7 * 24 * time.Hour
	backdated     = time.Hour // for clocks that differ
)

// File returns the path of the authority's certificate, for those who want to trust it. It holds no secret.
func File(h *home.Home) string { return h.Path("authority", "certificate.pem") }

func keyFile(h *home.Home) string { return h.Path("authority", "key.pem") }

// Authority signs the certificates of sites. It is safe for concurrent use.
type Authority struct {
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
	now         func() time.Time

	mu     sync.Mutex
	leaves map[string]*tls.Certificate // by host
}

// Open reads the authority, and creates it if there is none; only its owner may read its key. It may certify names
// below localhost, test and the given suffixes only (RFC 5280, section 4.2.1.10). Open recreates an authority that
// expires soon or that may not certify one of the suffixes; whoever trusted the old one has to trust the new one.
func Open(ctx context.Context, h *home.Home, suffixes []string) (*Authority, error) {
	wanted := append(slices.Clone(usual), suffixes...)
	slices.Sort(wanted)
	wanted = slices.Compact(wanted)
	lock, err := home.Lock(ctx, h.Path("authority.lock"), "another command, which makes certificates")
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	a, err := read(h)
	if err == nil && time.Until(a.certificate.NotAfter) > leafLife && !slices.ContainsFunc(wanted, func(s string) bool {
		return !a.Covers("x." + s)
	}) {
		return a, nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the certificate authority in %s: %w", h.Path("authority"), err)
	}
	return create(h, wanted)
}

// Narrow recreates the authority if it may certify names below suffixes that no stack uses any more. If there is no
// authority, Narrow does nothing.
func Narrow(ctx context.Context, h *home.Home, suffixes []string) error {
	lock, err := home.Lock(ctx, h.Path("authority.lock"), "another command, which makes certificates")
	if err != nil {
		return err
	}
	defer lock.Close()
	a, err := read(h)
	if err != nil {
		return nil // the next start creates it, or says what is wrong with it
	}
	wanted := append(slices.Clone(usual), suffixes...)
	slices.Sort(wanted)
	wanted = slices.Compact(wanted)
	if !slices.ContainsFunc(a.certificate.PermittedDNSDomains, func(s string) bool {
		return !slices.Contains(wanted, s)
	}) {
		return nil
	}
	_, err = create(h, wanted)
	return err
}

// Permitted returns the suffixes below which the authority may certify names, or nil if there is no authority.
func Permitted(h *home.Home) []string {
	if c := known(h); c != nil {
		return c.PermittedDNSDomains
	}
	return nil
}

func read(h *home.Home) (*Authority, error) {
	pair, err := tls.LoadX509KeyPair(File(h), keyFile(h))
	if err != nil {
		return nil, err
	}
	key, ok := pair.PrivateKey.(*ecdsa.PrivateKey)
	if !ok {
		return nil, errors.New("its key has another type")
	}
	return &Authority{certificate: pair.Leaf, key: key, now: time.Now, leaves: map[string]*tls.Certificate{}}, nil
}

func create(h *home.Home, suffixes []string) (*Authority, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	template := &x509.Certificate{
		SerialNumber: serial(), Subject: pkix.Name{CommonName: "Dravit, for this user's sites only"},
		NotBefore: now.Add(-backdated), NotAfter: now.Add(authorityLife),
		IsCA: true, BasicConstraintsValid: true, MaxPathLenZero: true,
		KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
		// Someone who steals the key can forge certificates for local names only, and for no address.
		PermittedDNSDomainsCritical: true, PermittedDNSDomains: suffixes,
		ExcludedIPRanges: []*net.IPNet{
			{IP: net.IPv4zero.To4(), Mask: net.CIDRMask(0, 32)},
			{IP: net.IPv6zero, Mask: net.CIDRMask(0, 128)},
		},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return nil, err
	}
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(h.Path("authority"), 0o700); err != nil {
		return nil, err
	}
	if err := home.WriteFile(keyFile(h),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: keyDER}), 0o600); err != nil {
		return nil, err
	}
	if err := home.WriteFile(File(h),
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o644); err != nil {
		return nil, err
	}
	return read(h)
}

// Covers reports whether the authority may certify a host name.
func (a *Authority) Covers(host string) bool {
	return slices.ContainsFunc(a.certificate.PermittedDNSDomains, func(s string) bool {
		return host == s || strings.HasSuffix(host, "."+s)
	})
}

// serial is a random number of 127 bits (RFC 5280, section 4.1.2.2: positive, at most 20 octets).
func serial() *big.Int {
	n, _ := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127)) // crypto/rand does not fail
	return n.Add(n, big.NewInt(1))
}

// Leaf returns a certificate for one host name, which must be below one of the suffixes. It creates the certificate at
// the first call, keeps it, and renews it a week before it expires. The certificate's key stays in this process.
func (a *Authority) Leaf(host string) (*tls.Certificate, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.now()
	if c := a.leaves[host]; c != nil && now.Add(renewBefore).Before(c.Leaf.NotAfter) {
		return c, nil
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	template := &x509.Certificate{
		SerialNumber: serial(),
		Subject:      pkix.Name{CommonName: host},
		DNSNames:     []string{host}, NotBefore: now.Add(-backdated), NotAfter: now.Add(leafLife),
		KeyUsage:    x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, BasicConstraintsValid: true,
	}
	if len(host) > 64 { // the longest common name (RFC 5280, ub-common-name); clients look at the DNS names
		template.Subject = pkix.Name{CommonName: host[:64]}
	}
	der, err := x509.CreateCertificate(rand.Reader, template, a.certificate, key.Public(), a.key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	if len(a.leaves) >= maxLeaves { // any visitor can ask for names: start over
		clear(a.leaves)
	}
	a.leaves[host] = &tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key, Leaf: leaf}
	return a.leaves[host], nil
}

// maxLeaves is how many certificates are kept in memory.
const maxLeaves = 1000

// known returns the authority's certificate, or nil if there is none.
func known(h *home.Home) *x509.Certificate {
	text, err := os.ReadFile(File(h))
	if err != nil {
		return nil
	}
	block, _ := pem.Decode(text)
	if block == nil {
		return nil
	}
	certificate, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil
	}
	return certificate
}

// Begins returns the time from which the authority's certificate is valid, or the zero time if there is none.
func Begins(h *home.Home) time.Time {
	if c := known(h); c != nil {
		return c.NotBefore
	}
	return time.Time{}
}

// Trusted reports whether the system's store trusts the authority.
func Trusted(h *home.Home) bool {
	certificate := known(h)
	if certificate == nil {
		return false
	}
	_, err := certificate.Verify(x509.VerifyOptions{KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
	return err == nil
}
