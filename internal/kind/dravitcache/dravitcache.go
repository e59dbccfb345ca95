// Package dravitcache is the kind for the cache that is built into Dravit. It speaks Redis' protocol and keeps
// everything in memory.
package dravitcache

import (
	"context"
	"sync"
	"time"

	"github.com/alicebob/miniredis/v2"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// Name is the kind's name in a stack file.
const Name = "dravit-cache"

// New returns the kind.
func New() kind.Kind { return cache{} }

type cache struct{ kind.StoreDefaults }

var _ kind.Cache = cache{}

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Name:     Name,
		Role:     kind.RoleCache,
		Keys:     []string{"port", "main"},
		Serve:    serve,
		Symptoms: kind.OwnSymptoms(),
		Clients:  health.RedisClients,
	}
})

func (cache) Traits() *kind.Traits { return traits() }

func (cache) Exports(p kind.Part) kind.Exports      { return health.CacheExports(p) }
func (cache) Ladder(p kind.Part) []kind.Rung        { return health.Cache(p) }
func (cache) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{Port: true, PortBase: 16379} }

type config struct {
	Address  string `json:"address"`
	Password string `json:"password"`
}

func (cache) Files(p kind.Part) ([]kind.File, error) {
	return kind.ConfigFile("cache.json", config{kind.Loopback(p.Port), p.Password})
}

func (cache) Command(p kind.Part) kind.Command { return kind.OwnCommand(p, "cache.json") }

// tick is how exactly keys expire: the library leaves the clock to its caller.
const tick = 50 * time.Millisecond

// serve serves until the context ends.
func serve(ctx context.Context, file string, _ kind.List) error {
	var c config
	if err := kind.ReadConfig(file, &c); err != nil {
		return err
	}
	server := miniredis.NewMiniRedis()
	server.RequireAuth(c.Password)
	if err := server.StartAddr(c.Address); err != nil {
		return err
	}
	defer server.Close()
	clock := time.NewTicker(tick)
	defer clock.Stop()
	last := time.Now()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-clock.C:
			now := time.Now()
			server.FastForward(now.Sub(last))
			last = now
		}
	}
}

func (cache) DeepChecks(p kind.Part) []kind.DeepCheck { return health.CacheDeepChecks(p) }

// Flush empties the cache.
func (cache) Flush(ctx context.Context, p kind.Part) error { return health.FlushCache(ctx, p) }
