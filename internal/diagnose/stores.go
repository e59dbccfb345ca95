package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// variables adds to the causes of a failed log-in the names of the variables that hold the store's address and
// password.
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
				fmt.Sprintf("part %s listens on %s", store.Name, store.Address()),
			)
		}
	}
}

// storeOf returns the store that a cause is about: the only one that the application uses, or the only one whose
// clients write such messages.
func (d *doctor) storeOf(c Cause) (kind.Part, bool) {
	name, isPart := strings.CutPrefix(c.Subject, "part.")
	if !isPart {
		i := slices.IndexFunc(d.f.Sites, func(s SiteFacts) bool { return "site."+s.Spec.Name == c.Subject })
		if i < 0 {
			return kind.Part{}, false
		}
		name = d.f.Sites[i].Spec.App
	}
	app, ok := d.partOf(name)
	if !ok {
		return kind.Part{}, false
	}
	text := c.What + "\n" + strings.Join(c.Evidence, "\n")
	var stores, named []kind.Part
	for _, use := range app.Spec.Uses {
		p, ok := d.partOf(use)
		if !ok || p.Traits.Clients == nil {
			continue
		}
		stores = append(stores, p.Spec)
		if p.Traits.Clients().MatchString(text) {
			named = append(named, p.Spec)
		}
	}
	if len(named) > 0 {
		stores = named
	}
	if len(stores) != 1 {
		return kind.Part{}, false
	}
	return stores[0], true
}
