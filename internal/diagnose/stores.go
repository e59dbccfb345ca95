package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
	"dravit/internal/trouble"
)

// variables adds to the causes of a failed log-in the names of the variables that hold the store's address and
// password.
func (d *doctor) variables() {
	for i, c := range d.all {
		if c.Cause != cause.WrongPassword && c.Cause != cause.StoreElsewhere {
			continue
		}
		store, foreign, ok := d.storeOf(c)
		if usual := d.usual(c); foreign == "" && usual != "" && (!ok || store.Kind != usual) {
			foreign, ok = usual, false
		}
		if foreign != "" {
			d.all[i] = d.lacking(c, foreign)
		}
		if !ok {
			continue
		}
		prefix := stackfile.EnvPrefix(store.Name)
		names := prefix + "_USER and " + prefix + "_PASSWORD"
		if c.Cause == cause.StoreElsewhere {
			names = prefix + "_HOST and " + prefix + "_PORT"
		}
		d.all[i].Remedy = fmt.Sprintf(
			"read %s, or %s_URL, from the environment; dravit run -- env shows them",
			names,
			prefix,
		)
		if store.Port != 0 {
			d.all[i].Evidence = append(d.all[i].Evidence, d.has(store, "port"))
		}
	}
}

// oldPorts adds the files that contain the port that a store had before. They are the cause if the application finds no
// server or another one in the place of that store, else they may be.
func (d *doctor) oldPorts() {
	for _, x := range d.f.OldPorts {
		r := likely
		if slices.ContainsFunc(d.all, func(c Cause) bool {
			ofStores := c.Cause == cause.StoreElsewhere || c.Cause == cause.WrongPassword
			store, _, known := d.storeOf(c)
			return ofStores && (!known || store.Name == x.Part) ||
				c.Cause == cause.ApplicationError && known && store.Name == x.Part && d.speaksOf(x.Part, c.What)
		}) {
			r = seen
		}
		d.add(r, cause.PortOld, about.Part(x.Part),
			fmt.Sprintf("%s contains the port that part %s had before", x.File, x.Part),
			fmt.Sprintf("write %d in line %d of %s", x.Now, x.Line, x.File),
			fmt.Sprintf("line %d contains %d; part %s has %d now", x.Line, x.Was, x.Part, x.Now))
	}
}

// speaksOf reports whether a client of a part's kind wrote a text.
func (d *doctor) speaksOf(part, text string) bool {
	p, ok := d.partOf(part)
	return ok && p.Traits.Clients != nil && p.Traits.Clients().MatchString(withoutPaths(text))
}

// usual returns the kind whose servers listen by custom on the port that a cause names, if the stack has no part of
// that kind, else "".
func (d *doctor) usual(c Cause) string {
	a, ok := addressIn(c.What + "\n" + strings.Join(c.Evidence, "\n"))
	if !ok || a.port == 0 || c.Cause != cause.StoreElsewhere {
		return ""
	}
	i := slices.IndexFunc(d.f.Kinds, func(k *kind.Traits) bool { return k.Signs.Port == a.port })
	if i < 0 || slices.ContainsFunc(d.f.Parts, func(p PartFacts) bool {
		return p.Traits.Signs.Port == a.port || p.Spec.Kind == d.f.Kinds[i].Name
	}) {
		return ""
	}
	return d.f.Kinds[i].Name
}

// lacking is the cause in place of c if the application asks for a kind of store that the stack does not have.
func (d *doctor) lacking(c Cause, kindName string) Cause {
	c.Cause = cause.StoreLacking
	c.What = "the application asks for a server of kind " + kindName + ", and this stack has none: " + c.What
	c.Remedy = "add one to dravit.toml, then dravit start; or make the application use what the stack has:" +
		trouble.Lines("[part."+kindName+"]", `kind = "`+kindName+`"`)
	c.Edit = []stackfile.Change{{Table: "part." + kindName, Key: "kind", Value: kindName}}
	if app, ok := d.partOf(d.appBehind(c)); ok && app.Spec.Want.Uses != nil {
		c.Edit = append(c.Edit, stackfile.Change{Table: "part." + app.Spec.Name, Key: "uses",
			Value: append(slices.Clone(app.Spec.Want.Uses), kindName)})
	}
	return c
}

// storeOf returns the store that a cause is about: the only one that the application uses, or the only one whose
// clients write such messages. foreign is the kind whose clients write them, if the application uses no store of it.
func (d *doctor) storeOf(c Cause) (store kind.Part, foreign string, ok bool) {
	app, ok := d.partOf(d.appBehind(c))
	if !ok {
		return kind.Part{}, "", false
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
	} else if foreign, other := d.foreign(withoutPaths(text)); other {
		return kind.Part{}, foreign, false
	}
	if len(stores) != 1 {
		return kind.Part{}, "", false
	}
	return stores[0], "", true
}

// foreign returns the kind whose clients wrote a text, or "" if a part of the stack is of such a kind. other reports
// whether there is such a kind at all.
func (d *doctor) foreign(text string) (kindName string, other bool) {
	for _, p := range d.f.Parts {
		if p.Traits.Clients != nil && p.Traits.Clients().MatchString(text) {
			return "", true
		}
	}
	for _, k := range d.f.Kinds {
		if k.Clients != nil && len(k.Programs) > 0 && k.Clients().MatchString(text) {
			return k.Name, true
		}
	}
	return "", false
}

// withoutPaths returns a text without the paths in it: a folder may be called like a server.
func withoutPaths(text string) string {
	return paths().ReplaceAllString(text, " ")
}

var paths = pattern.New(`[\w.\-]*/[^\s:()'"<>]+`)
