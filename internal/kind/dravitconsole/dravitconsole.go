// Package dravitconsole is the kind for the database console that is built into Dravit: pages on which the developer
// looks at the tables of the stack's SQL databases, asks them, and exports what they hold.
package dravitconsole

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"sync"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/stackfile"
	"dravit/internal/webrules"
)

// Name is the kind's name in a stack file.
const Name = "dravit-console"

// New returns the kind.
func New() kind.Kind { return console{} }

type console struct{ kind.Defaults }

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Name:     Name,
		Role:     kind.RoleTool,
		Keys:     []string{"writes"},
		Serve:    serve,
		Symptoms: kind.OwnSymptoms(),
		Pages:    true,
	}
})

func (console) Traits() *kind.Traits { return traits() }

func (console) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{Socket: true} }

type config struct {
	Socket    string      `json:"socket"`
	Host      string      `json:"host"`   // the console's host name; requests for others are refused
	Token     string      `json:"token"`  // what a form must carry to run a query
	Writes    bool        `json:"writes"` // a query may change the databases
	Databases []kind.Part `json:"databases"`
}

func (console) Files(p kind.Part) ([]kind.File, error) {
	c := config{Socket: p.Socket, Token: p.Password, Writes: p.Want.Writes, Databases: []kind.Part{}}
	if len(p.Sites) > 0 {
		c.Host = p.Sites[0].Host
	}
	for _, d := range p.Databases {
		c.Databases = append(c.Databases, kind.Part{
			Name: d.Name, Kind: d.Kind, Version: d.Version, Program: d.Program, Port: d.Port, Socket: d.Socket,
			Outside: d.Outside, User: d.User, Password: d.Password, Database: d.Database, Conf: d.Conf, Data: d.Data,
			Temp: d.Temp, Env: d.Env,
		})
	}
	return kind.ConfigFile("console.json", c)
}

func (console) Command(p kind.Part) kind.Command { return kind.OwnCommand(p, "console.json") }

func (console) Ladder(p kind.Part) []kind.Rung {
	lower, shared := health.LowerRungs(p, "unix", p.Socket)
	return append(lower, kind.Rung{Name: kind.Works, Ask: func(ctx context.Context) error {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+p.Sites[0].Host+"/databases.json", nil)
		if err != nil {
			return err
		}
		resp, err := health.Client(shared.Take).Do(req)
		if err != nil {
			return &kind.Miss{Expected: "the list of databases", Got: health.Plain(err)}
		}
		defer resp.Body.Close()
		var list struct{ Databases []any }
		if err := json.NewDecoder(resp.Body).Decode(&list); err != nil {
			return &kind.Miss{Expected: "the list of databases", Got: resp.Status}
		}
		return nil
	}})
}

// serve serves the pages until the context ends.
func serve(ctx context.Context, file string, kinds kind.List) error {
	var c config
	if err := kind.ReadConfig(file, &c); err != nil {
		return err
	}
	pages, err := net.Listen("unix", c.Socket)
	if err != nil {
		return err
	}
	if err := os.Chmod(c.Socket, 0o600); err != nil {
		return err
	}
	handler, err := handler(c, kinds)
	if err != nil {
		return fmt.Errorf("the console's databases: %w", err)
	}
	return webrules.ServeHTTP(ctx, &http.Server{Handler: handler, ReadHeaderTimeout: time.Minute}, pages)
}
