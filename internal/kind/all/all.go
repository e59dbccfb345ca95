// Package all lists the kinds that Dravit knows.
package all

import (
	"dravit/internal/kind"
	"dravit/internal/kind/apache"
	"dravit/internal/kind/custom"
	"dravit/internal/kind/dravitcache"
	"dravit/internal/kind/dravitconsole"
	"dravit/internal/kind/dravitmail"
	"dravit/internal/kind/dravitweb"
	"dravit/internal/kind/mariadb"
	"dravit/internal/kind/memcached"
	"dravit/internal/kind/nats"
	"dravit/internal/kind/nginx"
	"dravit/internal/kind/node"
	"dravit/internal/kind/php"
	"dravit/internal/kind/postgres"
	"dravit/internal/kind/python"
	"dravit/internal/kind/redis"
	"dravit/internal/kind/ruby"
	"dravit/internal/kind/sqlite"
)

// Kinds returns every kind.
func Kinds() kind.List {
	return kind.List{
		apache.New(), custom.New(), dravitcache.New(), dravitconsole.New(), dravitmail.New(), dravitweb.New(),
		mariadb.New(), memcached.New(), nats.New(), nginx.New(), node.New(), php.New(), postgres.New(), python.New(),
		redis.New(), ruby.New(), sqlite.New(),
	}
}
