package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
)

const berth = `name = "berth"
[part.web]
kind = "nginx"
[part.app]
kind = "php"
extensions = ["mysqli"]
[part.db]
kind = "mariadb"
[[site]]
name = "berth"
app = "app"
`

const threeTasks = `[[task]]
name = "folders"
command = "mkdir -p cache"
when = "first-start"
[[task]]
name = "tables"
part = "app"
command = "php -r 'echo 1;'"
when = "first-start"
if_changed = ["public/*.php"]
[[task]]
name = "boats"
part = "app"
after = ["tables"]
command = "php -r 'echo 2;'"
when = "first-start"
`

// tasks measures a start with three tasks that are done against the same start without tasks, and a command in the
// stack's environment against the command alone.
func (b *bench) tasks() error {
	dir := filepath.Join(b.dir, "berth")
	if err := os.MkdirAll(filepath.Join(dir, "public"), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "public/index.php"), []byte("<?php echo 'here';"), 0o644); err != nil {
		return err
	}
	defer func() { _ = b.command("stop", "-C", dir) }()
	start := func(tasks string) (float64, error) {
		if err := os.WriteFile(filepath.Join(dir, "dravit.toml"), []byte(berth+tasks), 0o644); err != nil {
			return 0, err
		}
		ms, err := timed(func() error { return b.command("start", "-C", dir) })
		if err != nil {
			return 0, err
		}
		return ms, b.command("stop", "-C", dir)
	}
	if _, err := start(threeTasks); err != nil {
		return err
	}
	var full, bare []float64
	for range b.rounds {
		ms, err := start("")
		if err != nil {
			return err
		}
		bare = append(bare, ms)
		if ms, err = start(threeTasks); err != nil {
			return err
		}
		full = append(full, ms)
	}
	reportMore("start with three tasks done", full, bare, "the same without tasks", 10)
	if err := b.command("start", "-C", dir); err != nil {
		return err
	}
	var ours, alone []float64
	for range 4 * b.rounds {
		ms, err := timed(func() error { return b.command("run", "-C", dir, "--", b.hello) })
		if err != nil {
			return err
		}
		ours = append(ours, ms)
		if ms, err = timed(func() error { return exec.CommandContext(b.ctx, b.hello).Run() }); err != nil {
			return err
		}
		alone = append(alone, ms)
	}
	reportMore("run of a program", ours, alone, "the program alone", 8)
	return nil
}

// reportMore prints two series and how much more the first one takes, each round against its neighbour.
func reportMore(what string, a, b []float64, yardstick string, aim float64) {
	more := make([]float64, len(a))
	for i := range a {
		more[i] = a[i] - b[i]
	}
	fmt.Printf("%-44s %7.1f ms   %-34s %7.1f ms   %.1f ms more   aim %.0f ms\n", what, median(a), yardstick, median(b),
		median(more), aim)
}
