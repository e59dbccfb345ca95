package e2e

import (
	"fmt"
	"math/rand/v2"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Starts, stops, interruptions and killed processes (of parts, gateway and keeper) in random order: afterwards one
// start brings up the whole stack with its data, and one stop leaves nothing running. The seed is in the test's name.
func TestEverythingMayDie(t *testing.T) {
	for seed := range uint64(3) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			random := rand.New(rand.NewPCG(seed, 0))
			w := newWorld(t)
			w.real()
			w.must("start")
			keep := `$m = new mysqli(getenv("DB_HOST"), getenv("DB_USERNAME"), getenv("DB_PASSWORD"), ` +
				`getenv("DB_DATABASE"), (int) getenv("DB_PORT")); `
			w.must("run", "--", "php", "-r", keep+`$m->query("CREATE TABLE cargo AS SELECT 'kelp' AS name");`)
			var background []*exec.Cmd
			var done []string
			for range 18 {
				op := []string{"start", "stop", "status", "restart", "kill keeper", "kill part",
					"start in the background", "interrupt a start"}[random.IntN(8)]
				done = append(done, op)
				switch op {
				case "start", "stop", "status":
					w.dravit(op)
				case "restart":
					w.dravit("restart", []string{"web", "app", "db", "seats"}[random.IntN(4)])
				case "kill keeper":
					if pid := w.keeperPID(); pid != 0 {
						_ = syscall.Kill(pid, syscall.SIGKILL)
					}
				case "kill part":
					if pids := w.living(); len(pids) > 0 {
						_ = syscall.Kill(pids[random.IntN(len(pids))], syscall.SIGKILL)
					}
				default:
					cmd := w.command(t.Context(), "start")
					require.NoError(t, cmd.Start())
					background = append(background, cmd)
					time.Sleep(time.Duration(random.IntN(200)) * time.Millisecond)
					if op == "interrupt a start" {
						_ = cmd.Process.Signal(syscall.SIGINT)
					}
				}
			}
			for _, cmd := range background {
				_ = cmd.Wait()
			}
			told := strings.Join(done, ", ")
			w.eventually("a start goes through after: "+told, func() bool { return w.dravit("start").code == 0 })
			w.eventually("all of it answers after: "+told, func() bool { return w.dravit("check").code == 0 })
			assert.Equal(t, "kelp", w.must("run", "--", "php", "-r",
				keep+`echo $m->query("SELECT name FROM cargo")->fetch_row()[0];`).stdout, told)
			w.must("stop")
			assert.Empty(t, w.living(), told)
		})
	}
}
