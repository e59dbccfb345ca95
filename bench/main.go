// Command bench measures Dravit against yardsticks in the same run: the same servers started by hand, and a program
// that prints one line. It prints medians and ratios; bench/run builds what it needs and runs it.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"dravit/internal/account"
	"dravit/internal/health"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/kind/all"
	"dravit/internal/ledger"
	"dravit/internal/materialise"
	"dravit/internal/proc"
	"dravit/internal/stack"
)

func main() {
	dravit := flag.String("dravit", "", "the dravit `program`")
	hello := flag.String("hello", "", "a `program` that prints one line")
	rounds := flag.Int("rounds", 15, "how often each thing is measured")
	only := flag.String("only", "",
		"one measure: start, status, first, size, survey, planner, gateway, check, tasks, propose, load, marks, "+
			"console or supply")
	against := flag.String("against", "", "another dravit `program`: the two are measured in turn (bench/compare)")
	flag.Parse()
	if err := run(*dravit, *hello, *against, *rounds, *only); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(dravit, hello, against string, rounds int, only string) error {
	if os.Geteuid() == 0 {
		u, err := account.For("", ".")
		if errors.Is(err, account.ErrNone) {
			u, err = account.Make()
		}
		if err != nil {
			return err
		}
		return account.Become(u)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Minute)
	defer cancel()
	dir, err := os.MkdirTemp("", "dravit-bench-")
	if err != nil {
		return err
	}
	b := &bench{ctx: ctx, dravit: dravit, hello: hello, dir: dir, rounds: rounds}
	if err := os.Setenv("DRAVIT_HOME", filepath.Join(dir, "home")); err != nil {
		return err
	}
	defer b.clean()
	system, err := exec.CommandContext(ctx, "uname", "-srm").Output()
	if err != nil {
		return err
	}
	fmt.Printf("on %s with %d processors\n", strings.TrimSpace(string(system)), runtime.NumCPU())
	if against != "" {
		slower, err := b.beside(against)
		if err == nil && slower {
			err = errors.New("something got slower")
		}
		return err
	}
	for _, m := range []struct {
		name string
		do   func() error
	}{{"start", b.start},
		{"status", b.status},
		{"first", b.first},
		{"size", b.size},
		{"survey", b.survey},
		{"planner", b.planner},
		{"gateway", b.gateway},
		{"check", b.check},
		{"tasks", b.tasks}, {"propose", b.propose}, {"load", b.load}, {"marks", b.marks},
		{"console", b.console}, {"supply", b.supply}} {
		if only == "" || only == m.name {
			if err := m.do(); err != nil {
				return fmt.Errorf("%s: %w", m.name, err)
			}
		}
	}
	return nil
}

type bench struct {
	ctx                context.Context
	dravit, hello, dir string
	rounds             int
}

func (b *bench) clean() {
	for _, name := range []string{"warm", "status", "size"} {
		_ = b.command("demo", "--remove", filepath.Join(b.dir, name))
	}
	_ = os.RemoveAll(b.dir)
}

func (b *bench) command(args ...string) error {
	out, err := exec.CommandContext(b.ctx, b.dravit, args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("dravit %s: %w: %s", strings.Join(args, " "), err, out)
	}
	return nil
}

func timed(do func() error) (float64, error) {
	began := time.Now()
	err := do()
	return float64(time.Since(began).Microseconds()) / 1000, err
}

func median(v []float64) float64 {
	v = slices.Sorted(slices.Values(v))
	return v[len(v)/2]
}

func report(what string, a, b []float64, yardstick, aim string) {
	ratios := make([]float64, len(a))
	for i := range a {
		ratios[i] = a[i] / b[i]
	}
	fmt.Printf("%-44s %7.1f ms   %-34s %7.1f ms   ratio %.2f (pairwise %.2f)   aim %s\n", what, median(a), yardstick,
		median(b), median(a)/median(b), median(ratios), aim)
}

// start measures dravit start, without a running keeper and with filled data, against the same servers started by hand.
func (b *bench) start() error {
	project := filepath.Join(b.dir, "warm")
	if err := b.command("demo", project); err != nil {
		return err
	}
	var ours, hand []float64
	for range b.rounds {
		if err := b.command("-C", project, "stop"); err != nil {
			return err
		}
		ms, err := b.byHand(project)
		if err != nil {
			return err
		}
		hand = append(hand, ms)
		if ms, err = timed(func() error { return b.command("-C", project, "start") }); err != nil {
			return err
		}
		ours = append(ours, ms)
	}
	report("start, no keeper, data filled", ours, hand, "the servers by hand, in parallel", "1.15")
	return nil
}

// byHand starts the servers of a stopped stack in parallel from its configuration, asks each every millisecond until it
// answers, then asks for one page of each site of the web server.
func (b *bench) byHand(project string) (float64, error) {
	h := &home.Home{Dir: os.Getenv("DRAVIT_HOME")}
	resolved, err := ledger.RealDir(project)
	if err != nil {
		return 0, err
	}
	book, err := ledger.Read(h)
	if err != nil {
		return 0, err
	}
	id, _ := book.ByDir(resolved)
	spec, err := materialise.Read(h, id, all.Kinds())
	if err != nil {
		return 0, err
	}
	kinds := all.Kinds()
	var running []*exec.Cmd
	defer func() {
		for _, cmd := range running {
			_ = cmd.Process.Signal(syscall.SIGTERM)
		}
		for _, cmd := range running {
			_ = cmd.Wait()
		}
		for _, p := range spec.Parts {
			_ = os.Remove(p.Socket)
		}
	}()
	for _, p := range spec.Parts {
		if err := os.MkdirAll(p.Temp, 0o700); err != nil {
			return 0, err
		}
		if p.Socket != "" {
			if err := os.MkdirAll(filepath.Dir(p.Socket), 0o700); err != nil {
				return 0, err
			}
		}
	}
	return timed(func() error {
		for _, p := range spec.Parts {
			c := kinds.Of(p.Kind).Command(p)
			if c.Path == "" {
				continue
			}
			cmd := exec.Command(c.Path, c.Args...)
			cmd.Dir, cmd.Env = c.Dir, c.Env
			if err := cmd.Start(); err != nil {
				return err
			}
			running = append(running, cmd)
		}
		errs := make([]error, len(spec.Parts))
		var wg sync.WaitGroup
		for i, p := range spec.Parts {
			wg.Go(func() { errs[i] = b.until(kinds.Of(p.Kind), p) })
		}
		wg.Wait()
		if err := errors.Join(errs...); err != nil {
			return err
		}
		for _, p := range spec.Parts {
			if p.Role != kind.RoleWeb {
				continue
			}
			for _, s := range spec.Sites {
				if s.Server != p.Name {
					continue
				}
				if err := page(b.ctx, p.Socket, s); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// until asks a server every millisecond in its own protocol, by the rungs of its kind that need no keeper. It leaves
// out PHP's probe of the stores: the page asks them.
func (b *bench) until(k kind.Kind, p kind.Part) error {
	deadline := time.Now().Add(time.Minute)
	for {
		ladder := slices.DeleteFunc(k.Ladder(p), func(r kind.Rung) bool {
			return r.Name == kind.Alive || r.Name == kind.Ours || r.Name == kind.Works && p.Role == kind.RoleRuntime
		})
		results := health.Climb(b.ctx, ladder)
		if health.Holds(results) {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("part %s does not answer: %+v", p.Name, health.FirstMiss(results))
		}
		if err := proc.Sleep(b.ctx, time.Millisecond); err != nil {
			return err
		}
	}
}

func page(ctx context.Context, socket string, s materialise.Site) error {
	client := health.Client(func(ctx context.Context) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", socket)
	})
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+s.Host+"/", nil)
	if err != nil {
		return err
	}
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err == nil && !strings.Contains(string(text), s.Expect.Text) {
		err = fmt.Errorf("the page of %s is not as expected: %s", s.Name, text)
	}
	return err
}

// status measures dravit status against a program that prints one line.
func (b *bench) status() error {
	project := filepath.Join(b.dir, "status")
	if err := b.command("demo", project); err != nil {
		return err
	}
	var ours, theirs []float64
	for range 4 * b.rounds {
		ms, err := timed(func() error { return b.command("-C", project, "status") })
		if err != nil {
			return err
		}
		ours = append(ours, ms)
		if ms, err = timed(exec.CommandContext(b.ctx, b.hello).Run); err != nil {
			return err
		}
		theirs = append(theirs, ms)
	}
	report("status", ours, theirs, "a Go program that prints one line", "3")
	return b.command("demo", "--remove", project)
}

// harbour is a stack of four servers whose page needs no data. So first measures Dravit's own share of a first start,
// not an application's.
var harbour = map[string]string{
	"dravit.toml": `[part.web]
kind = "nginx"
[part.app]
kind = "php"
[part.db]
kind = "mariadb"
[part.seats]
kind = "redis"
[[site]]
name = "harbour"
root = "public"
app = "app"
expect = { text = "Next sailing" }
`,
	"public/index.php": "<?php echo 'Next sailing';",
}

// first measures the first start of a new stack, its templates cached, against its second.
func (b *bench) first() error {
	var first, second []float64
	for i := range b.rounds + 1 {
		project := filepath.Join(b.dir, fmt.Sprintf("harbour-%d", i))
		for name, text := range harbour {
			if err := os.MkdirAll(filepath.Dir(filepath.Join(project, name)), 0o755); err != nil {
				return err
			}
			if err := os.WriteFile(filepath.Join(project, name), []byte(text), 0o644); err != nil {
				return err
			}
		}
		one, err := timed(func() error { return b.command("-C", project, "start") })
		if err != nil {
			return err
		}
		if err := b.command("-C", project, "stop"); err != nil {
			return err
		}
		two, err := timed(func() error { return b.command("-C", project, "start") })
		if err != nil {
			return err
		}
		m, err := stack.NewMachine(all.Kinds(), "bench")
		if err != nil {
			return err
		}
		s, err := m.Find(project, "")
		if err != nil {
			return err
		}
		if err := s.Remove(b.ctx, true); err != nil {
			return err
		}
		if i > 0 { // the first made the templates
			first, second = append(first, one), append(second, two)
		}
	}
	report("first start of a new stack", first, second, "its second start", "1.6")
	return nil
}

// size prints the size of the program, and the memory that the idle keeper holds.
func (b *bench) size() error {
	info, err := os.Stat(b.dravit)
	if err != nil {
		return err
	}
	project := filepath.Join(b.dir, "size")
	if err := b.command("demo", project); err != nil {
		return err
	}
	if err := proc.Sleep(b.ctx, 12*time.Second); err != nil { // after the first proof that follows the start
		return err
	}
	pids, err := proc.LockHolders(filepath.Join(os.Getenv("DRAVIT_HOME"), "keeper.lock"))
	if err != nil {
		return err
	}
	resident := 0
	for _, pid := range pids {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		if err != nil {
			return err
		}
		for line := range strings.Lines(string(text)) {
			if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
				_, _ = fmt.Sscan(rest, &resident)
			}
		}
	}
	text, _ := json.Marshal(map[string]any{
		"program_mb":    float64(info.Size()) / 1e6,
		"keeper_pss_mb": float64(proc.Memory(pids)) / 1e6,
		"keeper_rss_mb": float64(resident) * 1024 / 1e6,
	})
	fmt.Printf("sizes %s   aims: program 30, keeper 25\n", text)
	return b.command("demo", "--remove", project)
}
