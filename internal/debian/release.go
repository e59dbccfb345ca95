package debian

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
)

// Release is what a repository says of one suite: the signed file InRelease.
type Release struct {
	Suite      string
	Codename   string
	Date       time.Time
	ValidUntil time.Time // zero: for ever
	ByHash     bool      // files can be had by their hash, too
	Files      map[string]Sum
}

// Sum is the size of a file, in bytes, and its SHA-256 in hexadecimal digits.
type Sum struct {
	Bytes  int64
	SHA256 string
}

// ErrUnsigned says that a text has no signature of a key that is trusted.
var ErrUnsigned = errors.New("no trusted key has signed it")

// Keyring is a set of trusted keys.
type Keyring = openpgp.EntityList

// ReadKeyrings reads keys, each text binary or armored (RFC 9580). It leaves out what it cannot read, and returns an
// error if nothing is left.
func ReadKeyrings(texts [][]byte) (Keyring, error) {
	var all Keyring
	failed := errors.New("it is empty")
	for _, text := range texts {
		keys, err := readKeyring(text)
		if err != nil {
			failed = err
		}
		all = append(all, keys...)
	}
	if len(all) == 0 {
		return nil, failed
	}
	return all, nil
}

// readKeyring reads one keyring. Several armored blocks may follow each other.
func readKeyring(text []byte) (Keyring, error) {
	const begin = "-----BEGIN PGP PUBLIC KEY BLOCK-----"
	at := bytes.Index(text, []byte(begin))
	if at < 0 {
		return openpgp.ReadKeyRing(bytes.NewReader(text))
	}
	var all Keyring
	for at >= 0 {
		text = text[at:]
		block, err := armor.Decode(bytes.NewReader(text))
		if err != nil {
			return nil, err
		}
		keys, err := openpgp.ReadKeyRing(block.Body)
		if err != nil {
			return nil, err
		}
		all = append(all, keys...)
		if at = bytes.Index(text[1:], []byte(begin)); at >= 0 {
			at++
		}
	}
	return all, nil
}

// ReadInRelease reads a file InRelease. It returns ErrUnsigned unless a key of the keyring has signed what it returns.
func ReadInRelease(text []byte, keys Keyring) (Release, error) {
	block, _ := clearsign.Decode(text)
	if block == nil {
		return Release{}, fmt.Errorf("it is not clear-signed: %w", ErrUnsigned)
	}
	if _, err := block.VerifySignature(keys, nil); err != nil {
		return Release{}, fmt.Errorf("%w: %w", ErrUnsigned, err)
	}
	return readRelease(block.Plaintext)
}

// ReadRelease reads a file Release that has a signature of its own, Release.gpg, armored or not.
func ReadRelease(text, signature []byte, keys Keyring) (Release, error) {
	check := openpgp.CheckDetachedSignature
	if bytes.HasPrefix(bytes.TrimSpace(signature), []byte("-----BEGIN")) {
		check = openpgp.CheckArmoredDetachedSignature
	}
	if _, err := check(keys, bytes.NewReader(text), bytes.NewReader(signature), nil); err != nil {
		return Release{}, fmt.Errorf("%w: %w", ErrUnsigned, err)
	}
	return readRelease(text)
}

// ReadUnsigned reads a file Release that nobody vouches for. It is for a folder of the user's own only.
func ReadUnsigned(text []byte) (Release, error) { return readRelease(text) }

func readRelease(text []byte) (Release, error) {
	r := Release{Files: map[string]Sum{}}
	key := ""
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\r\n")
		if strings.HasPrefix(line, " ") {
			f := strings.Fields(line)
			if key != "SHA256" || len(f) != 3 || !isSHA256(f[0]) {
				continue
			}
			size, err := strconv.ParseInt(f[1], 10, 64)
			if err != nil || size < 0 {
				return r, fmt.Errorf("%q has no size", f[2])
			}
			r.Files[f[2]] = Sum{size, f[0]}
			continue
		}
		var value string
		key, value, _ = strings.Cut(line, ":")
		value = strings.TrimSpace(value)
		var err error
		switch key {
		case "Suite":
			r.Suite = value
		case "Codename":
			r.Codename = value
		case "Acquire-By-Hash":
			r.ByHash = value == "yes"
		case "Date":
			r.Date, err = date(value)
		case "Valid-Until":
			r.ValidUntil, err = date(value)
		}
		if err != nil {
			return r, err
		}
	}
	if r.Date.IsZero() || len(r.Files) == 0 {
		return r, errors.New("it has no date or names no files with their SHA256")
	}
	return r, nil
}

func date(text string) (time.Time, error) {
	for _, layout := range []string{time.RFC1123, time.RFC1123Z, "Mon, 2 Jan 2006 15:04:05 MST",
		"Mon, 2 Jan 2006 15:04:05 -0700"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no date", text)
}
