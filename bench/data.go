package main

import (
	"bufio"
	"crypto/rand"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

const (
	dumpBytes = 200 << 20
	dataBytes = 1 << 30
)

// hold starts a stack with a MariaDB, and returns its folder. The caller must call stop.
func (b *bench) hold(name string) (dir string, stop func(), err error) {
	dir = filepath.Join(b.dir, name)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", nil, err
	}
	text := "name = \"" + name + "\"\n[part.db]\nkind = \"mariadb\"\n"
	if err := os.WriteFile(filepath.Join(dir, "dravit.toml"), []byte(text), 0o644); err != nil {
		return "", nil, err
	}
	return dir, func() { _ = b.command("stop", "-C", dir) }, b.command("start", "-C", dir)
}

// load measures the load of a dump against the database's own client fed with it.
func (b *bench) load() error {
	dir, stop, err := b.hold("hold")
	if err != nil {
		return err
	}
	defer stop()
	dump := filepath.Join(dir, "cargo.sql")
	if err := cargo(dump); err != nil {
		return err
	}
	rounds := max(1, b.rounds/5)
	var ours, fed []float64
	for range rounds {
		ms, err := timed(func() error { return b.command("db", "load", dump, "-C", dir) })
		if err != nil {
			return err
		}
		ours = append(ours, ms)
		ms, err = timed(func() error {
			return b.command("run", "-C", dir, "--", "sh", "-c", "mariadb hold < cargo.sql")
		})
		if err != nil {
			return err
		}
		fed = append(fed, ms)
	}
	reportRatio("db load of 200 MB", ours, fed, "the client fed with it", 1.1)
	return os.Remove(dump)
}

// cargo writes a dump of dumpBytes, as the database's own program does: rows in long lines.
func cargo(file string) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	defer f.Close()
	w := bufio.NewWriter(f)
	fmt.Fprint(w, "DROP TABLE IF EXISTS cargo;\nCREATE TABLE cargo (n INT PRIMARY KEY, bill VARCHAR(200), tons INT);\n")
	n := 0
	for written := 0; written < dumpBytes; {
		line := []byte("INSERT INTO cargo VALUES ")
		for i := range 5000 {
			if i > 0 {
				line = append(line, ',')
			}
			n++
			line = fmt.Appendf(line, "(%d,'bill %d of lading, for crates of kelp and barrels of tar',%d)", n, n, n%97)
		}
		line = append(line, ";\n"...)
		if _, err := w.Write(line); err != nil {
			return err
		}
		written += len(line)
	}
	return w.Flush()
}

// marks measures marks and rewinds with a file of dataBytes in the data folder, which the server leaves alone, against
// cp of the folder.
func (b *bench) marks() error {
	dir, stop, err := b.hold("deck")
	if err != nil {
		return err
	}
	defer stop()
	folders, err := filepath.Glob(filepath.Join(os.Getenv("DRAVIT_HOME"), "stacks/*/data/db"))
	if err != nil || len(folders) == 0 {
		return fmt.Errorf("the data folder is not found: %w", err)
	}
	folder := folders[len(folders)-1]
	ballast, err := os.Create(filepath.Join(folder, "ballast"))
	if err != nil {
		return err
	}
	_, err = io.CopyN(ballast, rand.Reader, dataBytes)
	if err == nil {
		err = ballast.Close()
	}
	if err != nil {
		return err
	}
	copied := filepath.Join(b.dir, "copied")
	var marks, rewinds, copies []float64
	for i := range max(1, b.rounds/3) {
		name := fmt.Sprint("m", i)
		if err := settle(folder); err != nil {
			return err
		}
		ms, err := timed(func() error { return b.command("db", "mark", name, "-C", dir) })
		if err != nil {
			return err
		}
		marks = append(marks, ms)
		if err := settle(folder); err != nil {
			return err
		}
		ms, err = timed(func() error {
			return exec.CommandContext(b.ctx, "sh", "-c", `cp -r "$0" "$1" && sync -f "$1"`, folder, copied).Run()
		})
		if err != nil {
			return err
		}
		copies = append(copies, ms)
		if err := os.RemoveAll(copied); err != nil {
			return err
		}
		if err := settle(folder); err != nil {
			return err
		}
		if ms, err = timed(func() error { return b.command("db", "rewind", name, "--forget", "-C", dir) }); err != nil {
			return err
		}
		rewinds = append(rewinds, ms)
		if err := b.command("db", "marks", "--delete", name, "-C", dir); err != nil {
			return err
		}
	}
	reportRatio("db mark of 1 GB", marks, copies, "cp of it, and sync", 1.1)
	reportRatio("db rewind of 1 GB", rewinds, copies, "cp of it, and sync", 1.1)
	return nil
}

// settle waits until nothing that was thrown away is left to be deleted, and the disk has nothing left to write.
func settle(folder string) error {
	for range 300 {
		left, err := filepath.Glob(folder + ".gone-*")
		if err != nil {
			return err
		}
		if len(left) == 0 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	return exec.Command("sync").Run()
}

// reportRatio prints two series and their ratio.
func reportRatio(what string, a, b []float64, yardstick string, aim float64) {
	fmt.Printf("%-44s %7.0f ms   %-34s %7.0f ms   ratio %.2f   aim %.1f\n", what, median(a), yardstick, median(b),
		median(a)/median(b), aim)
}
