package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"

	"dravit/internal/debian"
	"dravit/internal/debian/mirror"
	"dravit/internal/supply"
)

// beside is where e2e/packages-beside puts the packages of real releases.
const beside = "/var/tmp/dravit-tests/beside/packages"

// supply measures what it takes to get programs from a source on loopback, and to start them.
func (b *bench) supply() error {
	if _, err := os.Stat(filepath.Join(beside, "trixie.complete")); err != nil {
		return errors.New("e2e/packages-beside " + beside + " fetches the packages first")
	}
	if err := b.lists(); err != nil {
		return err
	}
	for _, launch := range []string{"loader", "namespace"} {
		stop, err := b.source(launch)
		if err != nil {
			return err
		}
		err = b.trees(launch)
		stop()
		if err != nil {
			return err
		}
	}
	return nil
}

// source serves the packages, signed, and makes them the only source. The caller must call stop.
func (b *bench) source(launch string) (stop func(), err error) {
	packages, keys, err := mirror.Open(beside, runtime.GOARCH, "bookworm", "trixie")
	if err != nil {
		return nil, err
	}
	server := httptest.NewServer(packages)
	ring, home := filepath.Join(b.dir, "keys"), os.Getenv("DRAVIT_HOME")
	settings := fmt.Sprintf("launch = %q\n[[source]]\nformat = \"npm\"\noff = true\n[[source]]\nformat = \"debian\"\n"+
		"address = %q\nsuites = [\"bookworm\", \"trixie\"]\nkeyring = %q\n", launch, server.URL, ring)
	err = errors.Join(os.WriteFile(ring, keys, 0o600), os.MkdirAll(home, 0o700),
		os.WriteFile(filepath.Join(home, "settings.toml"), []byte(settings), 0o600))
	return func() {
		server.Close()
		_ = os.Remove(filepath.Join(home, "settings.toml"))
	}, err
}

// lists measures a list of packages of the size of a whole release.
func (b *bench) lists() error {
	const packages = 64_000
	text, err := os.ReadFile(filepath.Join(beside, "dists/trixie/main/binary-"+runtime.GOARCH+"/Packages"))
	if err != nil {
		return err
	}
	count := bytes.Count(text, []byte("\nPackage: ")) + 1
	whole := bytes.Clone(text)
	for i := range packages / count {
		whole = append(whole, bytes.ReplaceAll(text, []byte("Package: "), fmt.Appendf(nil, "Package: z%d-", i))...)
	}
	var parse, known, lines []float64
	for range max(1, b.rounds/3) {
		var data []byte
		ms, err := timed(func() (err error) { data, err = debian.Parse(bytes.NewReader(whole)); return err })
		if err != nil {
			return err
		}
		parse = append(parse, ms)
		ms, _ = timed(func() error { strings.Fields(string(whole)); return nil })
		lines = append(lines, ms)
		ms, err = timed(func() error {
			suite := debian.Suite{debian.Open(data, "")}
			_, err := suite.Closure([]debian.Relation{{Name: "redis-server"}}, func(name string) bool {
				packages, by := suite.Find(name)
				return len(packages)+len(by) == 0
			})
			return err
		})
		if err != nil {
			return err
		}
		known = append(known, ms)
	}
	fmt.Printf("a list of %d packages, %d MB\n", packages, len(whole)>>20)
	report("parse it", parse, lines, "only its words", "under 2000 ms")
	report("find all that a program needs, parsed", known, lines, "only its words", "under 100 ms")
	return nil
}

// trees measures cold supplies against dpkg-deb unpacking the same packages, and programs of trees against installed
// ones.
func (b *bench) trees(launch string) error {
	php := []string{"php", "8.4", "--extensions", "redis,xdebug"}
	for _, c := range [][]string{php, {"mariadb", "11"}, {"postgres", "17"}} {
		var ours, dpkg []float64
		for range max(1, b.rounds/5) {
			if err := os.RemoveAll(filepath.Join(os.Getenv("DRAVIT_HOME"), "supply")); err != nil {
				return err
			}
			ms, err := timed(func() error { return b.command(append([]string{"supply", "--yes"}, c...)...) })
			if err != nil {
				return err
			}
			ours = append(ours, ms)
			if ms, err = timed(func() error { return b.unpackByDpkg(c[0]) }); err != nil {
				return err
			}
			dpkg = append(dpkg, ms)
		}
		report("supply of "+c[0]+" "+c[1]+", cold, by "+launch, ours, dpkg, "dpkg-deb -x of the packages", "none")
	}
	if err := b.command("supply", "--yes", "php", "8.2"); err != nil {
		return err
	}
	if err := b.disk(); err != nil {
		return err
	}
	found, _ := filepath.Glob(filepath.Join(os.Getenv("DRAVIT_HOME"), "supply/trees/php-8.2*/files/usr/bin/php8.2"))
	if len(found) == 0 {
		return errors.New("there is no tree of PHP 8.2")
	}
	var tree, installed []float64
	for range 4 * b.rounds {
		for _, x := range []struct {
			program string
			times   *[]float64
		}{{found[0], &tree}, {"/usr/bin/php8.2", &installed}} {
			ms, err := timed(func() error { return exec.CommandContext(b.ctx, x.program, "-n", "-r", "1;").Run() })
			if err != nil {
				return err
			}
			*x.times = append(*x.times, ms)
		}
	}
	report("php -r of a tree, by "+launch, tree, installed, "the installed one", "under 10 ms more")
	return b.warm(launch)
}

// warm measures the start of a stack whose PHP is of a tree against one whose PHP is installed.
func (b *bench) warm(launch string) error {
	installed, err := exec.CommandContext(b.ctx, "/usr/bin/php8.2", "-n", "-r", "echo PHP_VERSION;").Output()
	if err != nil {
		return err
	}
	trees, err := filepath.Glob(filepath.Join(os.Getenv("DRAVIT_HOME"), "supply/trees/php-8.2*"))
	if err != nil || len(trees) == 0 {
		return errors.New("there is no tree of PHP 8.2")
	}
	dirs := map[string]string{"installed": string(installed), "tree": strings.Split(filepath.Base(trees[0]), "-")[1]}
	times := map[string][]float64{}
	for name, version := range dirs {
		dir := filepath.Join(b.dir, "php-"+name)
		text := fmt.Sprintf("name = \"php-%s\"\n[part.app]\nkind = \"php\"\nversion = %q\nextensions = []\n"+
			"[[site]]\nname = \"php-%[1]s\"\nroot = \".\"\napp = \"app\"\n", name, version)
		if err := errors.Join(os.MkdirAll(dir, 0o755),
			os.WriteFile(filepath.Join(dir, "dravit.toml"), []byte(text), 0o644),
			os.WriteFile(filepath.Join(dir, "index.php"), []byte("<?php echo 1;"), 0o644)); err != nil {
			return err
		}
		if err := b.command("start", "-C", dir); err != nil {
			return err
		}
		defer func() { _ = b.command("remove", "-C", dir, "--data", "--yes") }()
	}
	for range b.rounds {
		for name := range dirs {
			dir := filepath.Join(b.dir, "php-"+name)
			if err := b.command("stop", "app", "-C", dir); err != nil {
				return err
			}
			ms, err := timed(func() error { return b.command("start", "-C", dir) })
			if err != nil {
				return err
			}
			times[name] = append(times[name], ms)
		}
	}
	report("start of PHP of a tree, by "+launch, times["tree"], times["installed"], "of the installed one", "1.1")
	return nil
}

// unpackByDpkg unpacks the packages of a kind's tree with the system's own program.
func (b *bench) unpackByDpkg(kind string) error {
	found, err := filepath.Glob(filepath.Join(os.Getenv("DRAVIT_HOME"), "supply/trees", kind+"-*", "tree.json"))
	if err != nil || len(found) == 0 {
		return fmt.Errorf("there is no tree of %s", kind)
	}
	text, err := os.ReadFile(found[0])
	if err != nil {
		return err
	}
	var tree struct{ Packages []struct{ File string } }
	if err := json.Unmarshal(text, &tree); err != nil {
		return err
	}
	into := filepath.Join(b.dir, "dpkg")
	defer os.RemoveAll(into)
	for _, p := range tree.Packages {
		if err := exec.CommandContext(b.ctx, "dpkg-deb", "-x", filepath.Join(beside, p.File), into).Run(); err != nil {
			return err
		}
	}
	return nil
}

// disk says what two trees of PHP 8.4 with different extensions take together.
func (b *bench) disk() error {
	for _, extensions := range []string{"redis", "xdebug"} {
		if err := b.command("supply", "--yes", "php", "8.4", "--extensions", extensions); err != nil {
			return err
		}
	}
	found, err := filepath.Glob(filepath.Join(os.Getenv("DRAVIT_HOME"), "supply/trees/php-8.4*"))
	if err != nil || len(found) < 2 {
		return errors.New("there are not two trees of PHP 8.4")
	}
	var each int64
	var trees []supply.Tree
	for _, dir := range found {
		t := supply.Tree{Dir: dir}
		alone, err := supply.Together([]supply.Tree{t})
		if err != nil {
			return err
		}
		each += alone
		trees = append(trees, t)
	}
	together, err := supply.Together(trees)
	if err != nil {
		return err
	}
	fmt.Printf("%d trees of PHP 8.4 with different extensions: %d MB each on its own, %d MB together\n", len(found),
		each/int64(len(found))>>20, together>>20)
	return nil
}
