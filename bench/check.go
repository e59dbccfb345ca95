package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind/all"
	"dravit/internal/lifecycle"
	"dravit/internal/stack"
)

const sevenParts = `name = "seven"
[part.web]
kind = "nginx"
[part.app]
kind = "php"
extensions = ["mysqli", "pgsql", "redis"]
[part.db]
kind = "mariadb"
main = true
[part.records]
kind = "postgres"
[part.seats]
kind = "redis"
main = true
[part.more]
kind = "memcached"
[part.mail]
kind = "dravit-mail"
[[site]]
name = "seven"
app = "app"
`

// check measures a check of seven parts against the slowest ladder in it, a check of fifty parts, and what a watch
// costs the machine.
func (b *bench) check() error {
	fifty := "name = \"fifty\"\n"
	for i := range 50 {
		fifty += fmt.Sprintf("[part.boat%d]\nkind = \"dravit-cache\"\n", i)
	}
	for _, s := range []struct{ name, file string }{{"seven", sevenParts}, {"fifty", fifty}} {
		dir := filepath.Join(b.dir, s.name)
		if err := os.MkdirAll(filepath.Join(dir, "public"), 0o755); err != nil {
			return err
		}
		for name, text := range map[string]string{"dravit.toml": s.file, "public/index.php": "<?php echo 'seven';"} {
			if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
				return err
			}
		}
		defer func() { _ = b.command("stop", "-C", dir) }()
		if err := b.command("start", "-C", dir); err != nil {
			return err
		}
		if err := b.checkStack(s.name, dir); err != nil {
			return err
		}
		if s.name == "seven" {
			if err := b.watchCost(dir); err != nil {
				return err
			}
		}
		if err := b.command("stop", "-C", dir); err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) checkStack(name, dir string) error {
	m, err := stack.NewMachine(all.Kinds(), "bench")
	if err != nil {
		return err
	}
	s, err := m.Find(dir, "")
	if err != nil {
		return err
	}
	look := func(names ...string) (float64, stack.Checked, error) {
		began := time.Now()
		c, err := s.Check(b.ctx, names...)
		if err == nil && !c.Answers {
			err = fmt.Errorf("the stack %s does not answer: %s", name, fallen(c))
		}
		return float64(time.Since(began).Microseconds()) / 1000, c, err
	}
	_, checked, err := look()
	if err != nil {
		return err
	}
	var names []string // each alone; of many parts that are alike, only a few
	for _, p := range checked.Parts {
		names = append(names, p.Name)
	}
	names = names[:min(len(names), 7)]
	for _, x := range checked.Sites {
		names = append(names, x.Name)
	}
	var whole []float64
	alone := map[string][]float64{}
	for range b.rounds { // in turn
		ms, _, err := look()
		if err != nil {
			return err
		}
		whole = append(whole, ms)
		for _, n := range names {
			if ms, _, err = look(n); err != nil {
				return err
			}
			alone[n] = append(alone[n], ms)
		}
	}
	slowest := 0.0
	for _, n := range names {
		slowest = max(slowest, median(alone[n]))
	}
	fmt.Printf("check of %-6s %6.1f ms   the slowest alone %6.1f ms   above 1.2 times it: %.1f ms (aim: 5)\n", name,
		median(whole), slowest, max(0, median(whole)-1.2*slowest))
	return nil
}

// fallen returns the names of what does not answer in a check.
func fallen(c stack.Checked) string {
	var found []string
	for _, p := range c.Parts {
		if fell := health.FirstMiss(p.Rungs); fell != nil || p.State != lifecycle.Answers {
			found = append(found, fmt.Sprintf("%s %s %+v", p.Name, p.State, fell))
		}
	}
	for _, x := range c.Sites {
		if fell := health.FirstMiss(x.Rungs); fell != nil || x.State != lifecycle.Answers {
			found = append(found, fmt.Sprintf("%s %s %+v", x.Name, x.State, fell))
		}
	}
	return strings.Join(found, ", ")
}

// watchTime is how long the watch is measured.
const watchTime = 12 * time.Second

func (b *bench) watchCost(dir string) error {
	ctx, cancel := context.WithTimeout(b.ctx, 2*watchTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, b.dravit, "check", "-C", dir, "--watch=1s")
	var out strings.Builder
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		return err
	}
	time.Sleep(watchTime)
	_ = cmd.Process.Signal(syscall.SIGINT)
	if err := cmd.Wait(); err != nil {
		return err
	}
	looks := strings.Count(out.String(), "seven  answers")
	used := cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()
	fmt.Printf("watch, one look a second: %d looks in %.0f s, %.1f %% of one processor\n", looks, watchTime.Seconds(),
		100*used.Seconds()/watchTime.Seconds())
	return nil
}
