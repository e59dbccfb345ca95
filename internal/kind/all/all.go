// Package all lists the kinds.
package all

import (
	"dravit/internal/kind"
	"dravit/internal/kind/custom"
	"dravit/internal/kind/dravitcache"
	"dravit/internal/kind/dravitmail"
	"dravit/internal/kind/dravitweb"
	"dravit/internal/kind/mariadb"
	"dravit/internal/kind/nginx"
	"dravit/internal/kind/php"
	"dravit/internal/kind/redis"
	"dravit/internal/kind/sqlite"
)

// Kinds returns every kind.
func Kinds() kind.List {
	return kind.List{
		custom.New(), dravitcache.New(), dravitmail.New(), dravitweb.New(),
		mariadb.New(), nginx.New(), php.New(), redis.New(), sqlite.New(),
	}
}
