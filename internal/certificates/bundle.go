package certificates

import (
	"errors"
	"io/fs"
	"os"

	"dravit/internal/home"
)

// systemBundles are the files in which systems keep all certificates that they trust.
var systemBundles = []string{
	"/etc/ssl/certs/ca-certificates.crt", // Debian and its kin, Arch
	"/etc/pki/tls/certs/ca-bundle.crt",   // Fedora and its kin
	"/etc/ssl/ca-bundle.pem",             // openSUSE
	"/etc/ssl/cert.pem",                  // Alpine, macOS
}

// Bundle writes a file with the certificates that the system trusts and the authority's own, for programs that read one
// file only. It returns the file's path, or "" if the system has no such file.
func Bundle(h *home.Home) (string, error) {
	own, err := os.ReadFile(File(h))
	if err != nil {
		return "", err
	}
	path := h.Path("authority", "bundle.pem")
	for _, file := range systemBundles {
		if follows(path, file, File(h)) {
			return path, nil
		}
		text, err := os.ReadFile(file)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return "", err
		}
		_, err = home.WriteDerived(path, append(append(text, '\n'), own...), 0o644)
		return path, err
	}
	return "", nil
}

// follows reports whether a bundle has the size of its sources, and is not older: the authority's own certificate is
// written just before it, within one tick of the file system's clock.
func follows(bundle, system, own string) bool {
	var info [3]fs.FileInfo
	for i, file := range []string{bundle, system, own} {
		var err error
		if info[i], err = os.Stat(file); err != nil {
			return false
		}
	}
	return info[0].Size() == info[1].Size()+1+info[2].Size() &&
		info[0].ModTime().After(info[1].ModTime()) && !info[0].ModTime().Before(info[2].ModTime())
}
