package cli

import (
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"dravit/internal/databases"
	"dravit/internal/dump"
	"dravit/internal/ui"
)

type dumpJSON struct {
	Format int    `json:"format"`
	Stack  string `json:"stack"`
	File   string `json:"file"`
	Bytes  int64  `json:"bytes"`
	MS     int64  `json:"ms"`
}

func (a *app) dbDumpCommand(target *databases.Target) *cobra.Command {
	return &cobra.Command{
		Use:   "dump [FILE]",
		Short: "Write the database as SQL",
		Long: `Dump writes the SQL that creates the database again, one state of it, while others use it. Without a
file it goes to standard output. The file is packed as its name ends: .gz, .bz2, .xz, .zst or .zip. It
appears when it is whole, and only you may read it.`,
		Example: `  dravit db dump backup.sql.gz
  dravit db dump | head`,
		Args: argument("one file, or none for standard output", "dravit db dump FILE", true),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.databases()
			if err != nil {
				return err
			}
			if len(args) == 0 || args[0] == "-" {
				if a.json {
					return &ui.Failure{Exit: exitUsage, What: "a dump is no JSON", Next: "dravit db dump FILE --json"}
				}
				return s.Dump(cmd.Context(), *target, a.raw())
			}
			began, meter := time.Now(), a.ui.Meter("dumping", a.json)
			counted := &counter{meter: meter}
			err = dump.Write(args[0], func(to io.Writer) error {
				counted.to = to
				return s.Dump(cmd.Context(), *target, counted)
			})
			meter.End()
			if cmd.Context().Err() != nil {
				return cmd.Context().Err()
			}
			if err != nil {
				return err
			}
			info, err := os.Stat(args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.print(dumpJSON{1, s.Name, args[0], info.Size(), time.Since(began).Milliseconds()})
			}
			a.ui.Dumped(args[0], info.Size(), time.Since(began))
			return nil
		},
	}
}

// counter shows how much was written.
type counter struct {
	to    io.Writer
	done  int64
	shown time.Time
	meter *ui.Meter
}

func (c *counter) Write(p []byte) (int, error) {
	n, err := c.to.Write(p)
	c.done += int64(n)
	if time.Since(c.shown) > 100*time.Millisecond {
		c.shown = time.Now()
		c.meter.Show(c.done, 0)
	}
	return n, err
}
