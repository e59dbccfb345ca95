package main

import (
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// side is one of two programs that are compared, with a folder of its own for the stacks that it runs.
type side struct{ dravit, home, project string }

func (s side) command(b *bench, args ...string) error {
	cmd := exec.CommandContext(b.ctx, s.dravit, append([]string{"-C", s.project}, args...)...)
	cmd.Env = append(os.Environ(), "DRAVIT_HOME="+s.home)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%s %s: %w: %s", filepath.Base(s.dravit), strings.Join(args, " "), err, out)
	}
	return nil
}

// compared are the things that two programs are measured at: what comes before each, and is not measured, and the
// command. All work on the demo, which runs.
var compared = []struct {
	what   string
	before []string
	does   []string
	times  int // how often for each round
}{
	{"status", nil, []string{"status"}, 4},
	{"status --json", nil, []string{"status", "--json"}, 2},
	{"env", nil, []string{"env"}, 2},
	{"run -- true", nil, []string{"run", "--", "true"}, 2},
	{"plan", nil, []string{"plan"}, 2},
	{"survey", nil, []string{"survey"}, 1},
	{"check", nil, []string{"check"}, 1},
	{"start of what runs", nil, []string{"start"}, 1},
	{"start, no keeper", []string{"stop"}, []string{"start"}, 1},
}

// beside measures another program against this one, in turn. slower is whether something takes longer than before.
func (b *bench) beside(against string) (slower bool, err error) {
	b.rounds = max(b.rounds, fewest)
	sides := []side{{against, "before", ""}, {b.dravit, "now", ""}}
	for i := range sides {
		s := &sides[i]
		s.home, s.project = filepath.Join(b.dir, s.home), filepath.Join(b.dir, s.home+"-demo")
		cmd := exec.CommandContext(b.ctx, s.dravit, "demo", s.project)
		cmd.Env = append(os.Environ(), "DRAVIT_HOME="+s.home)
		defer func() {
			cmd := exec.CommandContext(b.ctx, s.dravit, "demo", "--remove", s.project)
			cmd.Env = append(os.Environ(), "DRAVIT_HOME="+s.home)
			_ = cmd.Run() // the folder goes anyway
		}()
		if out, err := cmd.CombinedOutput(); err != nil {
			return false, fmt.Errorf("%w: %s", err, out)
		}
	}
	fmt.Printf("%-20s %10s %10s %9s   %s\n", "what", "before", "now", "quotient", "with 99 % confidence")
	for _, c := range compared {
		var times [2][]float64
		for round := range b.rounds * c.times {
			for turn := range sides {
				i := (turn + round) % 2 // each is first as often as the other
				if c.before != nil {
					if err := sides[i].command(b, c.before...); err != nil {
						return slower, err
					}
				}
				ms, err := timed(func() error { return sides[i].command(b, c.does...) })
				if err != nil {
					return slower, err
				}
				times[i] = append(times[i], ms)
			}
		}
		var quotients []float64
		for i := range times[0] {
			quotients = append(quotients, times[1][i]/times[0][i])
		}
		low, high := likely(quotients)
		verdict := "no difference is seen"
		switch {
		case low > 1:
			verdict, slower = "slower", true
		case high < 1:
			verdict = "faster"
		}
		fmt.Printf("%-20s %7.1f ms %7.1f ms %9.3f   %.3f to %.3f: %s\n", c.what, median(times[0]), median(times[1]),
			median(quotients), low, high, verdict)
	}
	return slower, nil
}

// fewest are the rounds from which on likely has its confidence.
const fewest = 8

// likely returns between which two values the median of all such values is, with 99 % confidence: of nine things,
// hardly one seems to differ by chance then. It takes the order statistics of the sign test, in its normal
// approximation. Of fewer than eight values it only returns the ends.
func likely(values []float64) (low, high float64) {
	v := slices.Sorted(slices.Values(values))
	n := float64(len(v))
	k := max(0, int(math.Floor((n-2.58*math.Sqrt(n))/2)))
	return v[k], v[len(v)-1-k]
}
