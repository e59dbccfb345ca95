// Package launch starts a program of a supplied tree where it finds itself in place of the system: the tree's folders
// stand at /usr and /etc, everything else is the machine's own.
package launch

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// Tree is what has to be known of a supplied tree.
type Tree struct {
	Files   string            // the folder with usr and etc, absolute
	Root    string            // an empty folder, which becomes the root of the program's view
	Replace map[string]string // what stands at a path of the tree instead of what the tree has there
}

// system are the folders of a machine that the tree's stand in for, or links to these.
var system = []string{"usr", "bin", "sbin", "lib", "lib32", "lib64", "libx32", "etc"}

// Exec replaces this process with a program of a tree: path is absolute, as the program sees it. The process has to be
// alone in a mount namespace and may mount there (CAP_SYS_ADMIN in its user namespace). The program has no capability
// and gains none. Exec returns only an error.
func Exec(t Tree, path string, args, env []string) error {
	runtime.LockOSThread() // what follows concerns one thread until the program runs
	dir, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := t.enter(); err != nil {
		return err
	}
	if err := os.Chdir(dir); err != nil { // below a folder that the tree stands for
		if err := os.Chdir("/"); err != nil {
			return err
		}
	}
	if err := dropAll(); err != nil {
		return fmt.Errorf("giving up what it may do: %w", err)
	}
	return fmt.Errorf("%s: %w", path, unix.Exec(path, append([]string{path}, args...), env))
}

// enter makes the tree's view the root of the process.
func (t Tree) enter() error {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return &os.PathError{Op: "making the mounts private", Path: "/", Err: err}
	}
	if err := unix.Mount("dravit", t.Root, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=755,size=4m"); err != nil {
		return &os.PathError{Op: "mounting", Path: t.Root, Err: err}
	}
	if err := t.machine(); err != nil {
		return err
	}
	if err := t.folders(); err != nil {
		return err
	}
	if err := t.etc(); err != nil {
		return err
	}
	if err := unix.Mount("", t.Root, "", unix.MS_REMOUNT|unix.MS_RDONLY|unix.MS_NOSUID|unix.MS_NODEV, ""); err != nil {
		return &os.PathError{Op: "closing", Path: t.Root, Err: err}
	}
	if err := os.Chdir(t.Root); err != nil {
		return err
	}
	if err := unix.PivotRoot(".", "."); err != nil { // the old root is now mounted over the new one (pivot_root(2))
		return fmt.Errorf("changing the root: %w", err)
	}
	return unix.Unmount(".", unix.MNT_DETACH)
}

// machine shows the machine's own folders other than those of the system.
func (t Tree) machine() error {
	entries, err := os.ReadDir("/")
	if err != nil {
		return err
	}
	for _, e := range entries {
		if slices.Contains(system, e.Name()) {
			continue
		}
		from, to := filepath.Join("/", e.Name()), filepath.Join(t.Root, e.Name())
		switch {
		case e.Type() == fs.ModeSymlink:
			target, err := os.Readlink(from)
			if err == nil {
				err = os.Symlink(target, to)
			}
			if err != nil {
				return err
			}
		case e.IsDir():
			if err := os.Mkdir(to, 0o755); err != nil {
				return err
			}
			if err := bind(from, to); err != nil && !errors.Is(err, fs.ErrPermission) {
				return err
			}
		}
	}
	return nil
}

// folders shows the tree's programs and libraries, which nothing can change there.
func (t Tree) folders() error {
	usr := filepath.Join(t.Root, "usr")
	if err := os.Mkdir(usr, 0o755); err != nil {
		return err
	}
	if err := bind(filepath.Join(t.Files, "usr"), usr); err != nil {
		return err
	}
	for at, instead := range t.Replace {
		if err := bind(filepath.Join(t.Files, instead), filepath.Join(t.Root, at)); err != nil {
			return err
		}
	}
	if err := readOnly(usr); err != nil {
		return err
	}
	for _, name := range system {
		if _, err := os.Stat(filepath.Join(usr, name)); err == nil {
			if err := os.Symlink("usr/"+name, filepath.Join(t.Root, name)); err != nil {
				return err
			}
		}
	}
	return nil
}

// etc makes the program's /etc: the tree's, with the machine's names, addresses, time zone and certificates.
func (t Tree) etc() error {
	etc := filepath.Join(t.Root, "etc")
	if err := os.Mkdir(etc, 0o755); err != nil {
		return err
	}
	own, err := os.ReadDir(filepath.Join(t.Files, "etc"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, e := range own {
		if err := os.Symlink(filepath.Join(t.Files, "etc", e.Name()), filepath.Join(etc, e.Name())); err != nil {
			return err
		}
	}
	for _, name := range []string{"hosts", "resolv.conf", "host.conf", "gai.conf", "protocols", "services", "passwd",
		"group", "timezone", "machine-id"} {
		text, err := os.ReadFile(filepath.Join("/etc", name))
		if err != nil {
			continue // the machine has none
		}
		if err := replace(filepath.Join(etc, name), text); err != nil {
			return err
		}
	}
	// The machine's own sources of names may be libraries that the tree does not have.
	if err := replace(filepath.Join(etc, "nsswitch.conf"), []byte("passwd: files\ngroup: files\nshadow: files\n"+
		"hosts: files dns\nnetworks: files\nprotocols: files\nservices: files\n")); err != nil {
		return err
	}
	if err := t.account(filepath.Join(etc, "passwd")); err != nil {
		return err
	}
	if err := t.certificates(filepath.Join(etc, "ssl")); err != nil {
		return err
	}
	zone, err := filepath.EvalSymlinks("/etc/localtime")
	if _, name, ok := strings.Cut(zone, "/zoneinfo/"); err == nil && ok {
		return os.Symlink("/usr/share/zoneinfo/"+name, filepath.Join(etc, "localtime"))
	}
	return nil
}

// bundles are where machines keep the certificates that they trust.
var bundles = []string{"/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt",
	"/etc/ssl/ca-bundle.pem", "/etc/ssl/cert.pem"}

// certificates lets the program trust what the machine trusts, which may be more than the tree knows.
func (t Tree) certificates(ssl string) error {
	for _, file := range bundles {
		text, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		if err := os.Remove(ssl); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err := os.MkdirAll(filepath.Join(ssl, "certs"), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(ssl, "certs", "ca-certificates.crt"), text, 0o644); err != nil {
			return err
		}
		return os.Symlink(filepath.Join(t.Files, "etc/ssl/openssl.cnf"), filepath.Join(ssl, "openssl.cnf"))
	}
	return nil
}

// account adds this user to a file with accounts, if some other source of names has it.
func (Tree) account(passwd string) error {
	text, err := os.ReadFile(passwd)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	id := fmt.Sprintf(":%d:", os.Getuid())
	for line := range strings.Lines(string(text)) {
		if _, rest, ok := strings.Cut(line, ":"); ok {
			if _, rest, ok = strings.Cut(rest, ":"); ok && strings.HasPrefix(":"+rest, id) {
				return nil
			}
		}
	}
	line := fmt.Sprintf("%s:x:%d:%d::%s:/bin/sh\n", user(), os.Getuid(), os.Getgid(), os.Getenv("HOME"))
	return replace(passwd, append(text, line...))
}

func user() string {
	if name := os.Getenv("USER"); name != "" && !strings.ContainsAny(name, ":\n") {
		return name
	}
	return "developer"
}

func replace(file string, text []byte) error {
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.WriteFile(file, text, 0o644)
}

// bind shows a file or folder, with what is mounted in it, at another place.
func bind(from, to string) error {
	if err := unix.Mount(from, to, "", unix.MS_BIND|unix.MS_REC, ""); err != nil {
		return &os.PathError{Op: "showing", Path: from, Err: err}
	}
	return nil
}

// readOnly closes a mount that bind made. What else holds for it (no set-user programs, say) has to stay.
func readOnly(at string) error {
	var mounted unix.Statfs_t
	if err := unix.Statfs(at, &mounted); err != nil {
		return err
	}
	flags := uintptr(unix.MS_BIND | unix.MS_REMOUNT | unix.MS_RDONLY | unix.MS_NOSUID | unix.MS_NODEV)
	for _, f := range [][2]uintptr{{unix.ST_NOEXEC, unix.MS_NOEXEC}, {unix.ST_NOATIME, unix.MS_NOATIME},
		{unix.ST_NODIRATIME, unix.MS_NODIRATIME}, {unix.ST_RELATIME, unix.MS_RELATIME}} {
		if uintptr(mounted.Flags)&f[0] != 0 { //nolint:gosec // the flags are a few bits
			flags |= f[1]
		}
	}
	if err := unix.Mount("", at, "", flags, ""); err != nil {
		return &os.PathError{Op: "closing", Path: at, Err: err}
	}
	return nil
}

// dropAll gives up every capability, for ever.
func dropAll() error {
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return err
	}
	if err := unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0); err != nil {
		return err
	}
	head := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var none [2]unix.CapUserData
	return unix.Capset(&head, &none[0])
}
