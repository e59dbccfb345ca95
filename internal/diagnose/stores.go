package diagnose

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
)

// speaks tells by what a client of a store writes which kinds of store it speaks to.
var speaks = []struct {
	words func() *regexp.Regexp
	kinds []string
}{
	{pattern.New(`(?i)mysql|mariadb|Access denied for user`), []string{"mariadb"}},
	{pattern.New(`(?i)postgres|psycopg|pg_connect|PG::|password authentication failed`), []string{"postgres"}},
	{pattern.New(`(?i)redis|WRONGPASS|NOAUTH`), []string{"redis", "dravit-cache"}},
	{pattern.New(`(?i)memcache`), []string{"memcached"}},
}

// variables has the causes of a log-in that failed name the variables that hold the store's address and password.
func (d *doctor) variables() {
	for i, c := range d.all {
		if c.Cause != "wrong-password" && c.Cause != "store-elsewhere" {
			continue
		}
		store, ok := d.storeOf(c)
		if !ok {
			continue
		}
		prefix := stackfile.EnvPrefix(store.Name)
		names := prefix + "_USER and " + prefix + "_PASSWORD"
		if c.Cause == "store-elsewhere" {
			names = prefix + "_HOST and " + prefix + "_PORT"
		}
		d.all[i].Remedy = fmt.Sprintf(
			"read %s, or %s_URL, from the environment; dravit run -- env shows them",
			names,
			prefix,
		)
		if store.Port != 0 {
			d.all[i].Evidence = append(
				d.all[i].Evidence,
				fmt.Sprintf("part %s listens on %s:%d", store.Name, kind.Host, store.Port),
			)
		}
	}
}

// storeOf returns the store that a cause speaks of: the only one that the application uses, or the only one of the kind
// that its words name.
func (d *doctor) storeOf(c Cause) (kind.Part, bool) {
	name, isPart := strings.CutPrefix(c.Subject, "part.")
	if !isPart {
		i := slices.IndexFunc(d.f.Sites, func(s Site) bool { return "site."+s.Spec.Name == c.Subject })
		if i < 0 {
			return kind.Part{}, false
		}
		name = d.f.Sites[i].Spec.App
	}
	app, ok := d.partOf(name)
	if !ok {
		return kind.Part{}, false
	}
	var stores []kind.Part
	for _, use := range app.Spec.Uses {
		if p, ok := d.partOf(use); ok && (p.Spec.Role == kind.Database || p.Spec.Role == kind.Cache) {
			stores = append(stores, p.Spec)
		}
	}
	text := c.What + "\n" + strings.Join(c.Evidence, "\n")
	for _, s := range speaks {
		if s.words().MatchString(text) {
			stores = slices.DeleteFunc(stores, func(p kind.Part) bool { return !slices.Contains(s.kinds, p.Kind) })
			break
		}
	}
	if len(stores) != 1 {
		return kind.Part{}, false
	}
	return stores[0], true
}
