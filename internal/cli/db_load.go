package cli

import (
	"errors"
	"os"

	"github.com/spf13/cobra"

	"dravit/internal/databases"
	"dravit/internal/dump"
	"dravit/internal/trouble"
	"dravit/internal/ui"
)

type loadJSON struct {
	Format int    `json:"format"`
	Stack  string `json:"stack"`
	databases.Loaded
	MS int64 `json:"ms"`
}

func (a *app) dbLoadCommand(target *databases.Target) *cobra.Command {
	return &cobra.Command{
		Use:   "load FILE",
		Short: "Put what a dump holds in the place of the database",
		Long: `Load puts what a dump holds in the place of the database. The dump is SQL, as it is or packed (gzip,
bzip2, xz, zstd, or the only file of a tar or zip archive), for PostgreSQL also an archive of pg_dump.
With - it is read from standard input.

If the load fails, the database is as it was, and the message names the dump's line and the server's
words. A dump of another kind of database is refused before anything is touched. What the database
was before becomes the mark before-load.

Names of databases, owners, definers, roles and extensions that do not exist here are left out, and
the output says so: everything belongs to the application's user.`,
		Example: `  dravit db load backup.sql.gz
  ssh office mariadb-dump ferry | dravit db load -
  dravit db load old.zip --part archive
  dravit db rewind before-load     take it back`,
		Args: argument("the file with a dump, or - for standard input", "dravit db load FILE", false),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.databases()
			if err != nil {
				return err
			}
			file := os.Stdin
			if args[0] != "-" {
				if file, err = os.Open(args[0]); err != nil {
					return unreadable(args[0], err)
				}
			}
			d, err := dump.New(cmd.Context(), file)
			if err != nil {
				return unreadable(args[0], err)
			}
			defer d.Close()
			return a.showLoad(s, func(report func(databases.Bytes)) (databases.Loaded, error) {
				return s.Load(cmd.Context(), *target, d, report)
			})
		},
	}
}

// unreadable says that a dump cannot be read.
func unreadable(name string, err error) error {
	if code := trouble.CodeOf(err); code != "" && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return &ui.Failure{Exit: exitFailed, Code: trouble.LoadFailed, What: "the dump " + name + " cannot be read",
		Because: err.Error(), Next: "name another file"}
}

// showLoad shows the progress of a load, and its result.
func (a *app) showLoad(s *databases.Stack, load func(report func(databases.Bytes)) (databases.Loaded, error)) error {
	meter := a.ui.Meter("loading", a.json)
	out, err := load(func(b databases.Bytes) { meter.Show(b.Done, b.Size) })
	meter.End()
	if err != nil {
		return err
	}
	if a.json {
		return a.print(loadJSON{1, s.Name, out, out.Took.Milliseconds()})
	}
	a.ui.Loaded(s.Name, out)
	return nil
}

func (a *app) dbCopyCommand(target *databases.Target) *cobra.Command {
	var from databases.Target
	c := &cobra.Command{
		Use:   "copy STACK",
		Short: "Put another stack's database in the place of this one",
		Long: `Copy dumps the database of another stack of this machine, which must run, and loads it into this
stack's, as dravit db load does. Both must be of one kind.`,
		Example: `  dravit db copy saltmarsh-ferry-2
  dravit db copy saltmarsh-ferry --from archive --part db`,
		Args: argument(
			"the name of the stack to copy from",
			"dravit db copy STACK; dravit ports lists the stacks",
			false,
		),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.databases()
			if err != nil {
				return err
			}
			m, err := a.machine()
			if err != nil {
				return err
			}
			other, err := m.Find("", args[0])
			if err != nil {
				return err
			}
			source, err := other.Databases()
			if err != nil {
				return err
			}
			return a.showLoad(s, func(report func(databases.Bytes)) (databases.Loaded, error) {
				return s.CopyFrom(cmd.Context(), *target, source, from, report)
			})
		},
	}
	c.Flags().StringVar(&from.Part, "from", "", "the database `part` of the other stack")
	return c
}
