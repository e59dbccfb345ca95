// Package mirror serves packages of a folder, with lists that a key of its own signs: a source for tests and measures.
package mirror

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
)

// Open returns a handler that serves the suites of a folder, which has their lists as
// dists/SUITE/main/binary-ARCH/Packages, and the binary keyring by which its answers are believed. arch is an
// architecture as Debian names it.
func Open(dir, arch string, suites ...string) (handler http.Handler, keyring []byte, err error) {
	key, err := openpgp.NewEntity("harbour", "", "harbour@saltmarsh.example", nil)
	if err != nil {
		return nil, nil, err
	}
	var keys bytes.Buffer
	if err := key.Serialize(&keys); err != nil {
		return nil, nil, err
	}
	serve := http.NewServeMux()
	serve.Handle("/", http.FileServer(http.Dir(dir)))
	for _, suite := range suites {
		text, err := release(key, dir, arch, suite)
		if err != nil {
			return nil, nil, err
		}
		serve.HandleFunc("/dists/"+suite+"/InRelease", func(w http.ResponseWriter, _ *http.Request) {
			_, _ = w.Write(text) // a client that went away hears nothing
		})
	}
	return serve, keys.Bytes(), nil
}

// release returns the signed list of a suite's lists, of now.
func release(key *openpgp.Entity, dir, arch, suite string) ([]byte, error) {
	name := "main/binary-" + arch + "/Packages"
	list, err := os.ReadFile(filepath.Join(dir, "dists", suite, name))
	if err != nil {
		return nil, err
	}
	var text bytes.Buffer
	w, err := clearsign.Encode(&text, key.PrivateKey, nil)
	if err != nil {
		return nil, err
	}
	_, err = fmt.Fprintf(w, "Codename: %s\nDate: %s\nSHA256:\n %x %d %s\n", suite,
		time.Now().UTC().Format(time.RFC1123), sha256.Sum256(list), len(list), name)
	err = errors.Join(err, w.Close())
	return text.Bytes(), err
}
