package php

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"slices"

	"dravit/internal/kind"
	"dravit/internal/setting"
	"dravit/internal/stackfile"
)

// required is what the probe checks of the application's requirements, by name.
func required(p kind.Part) string {
	r := p.Want.Requires
	if r == nil {
		return "{}\n"
	}
	var writable []string
	for _, path := range r.Writable {
		writable = append(writable, filepath.Join(p.Project, path))
	}
	// plain texts cannot fail
	text, _ := json.Marshal(map[string][]string{
		"settings":  slices.Sorted(maps.Keys(r.Settings)),
		"database":  slices.Sorted(maps.Keys(r.Database)),
		"functions": r.Functions,
		"writable":  writable,
	})
	return string(text) + "\n"
}

// found is the probe's answer about them. A setting or variable that does not exist is null.
type found struct {
	Settings, Database map[string]*string
	Functions          map[string]bool
	Writable           map[string]bool
}

// Requirements asks the web process about what the application requires.
func (php) Requirements(ctx context.Context, p kind.Part) ([]kind.Requirement, error) {
	r := p.Want.Requires
	if r == nil {
		return nil, nil
	}
	v, err := askFPM(ctx, p, "")
	if err != nil {
		return nil, err
	}
	var out []kind.Requirement
	values := func(sort string, wanted map[string]stackfile.Text, got map[string]*string) {
		for _, name := range slices.Sorted(maps.Keys(wanted)) {
			x := kind.Requirement{Sort: sort, Name: name, Wanted: string(wanted[name]), Got: "it does not exist"}
			want, err := setting.Parse(x.Wanted)
			if value := got[name]; value != nil && err == nil {
				x.Got, x.Holds = fmt.Sprintf("%q", *value), want.Meets(name, *value)
			}
			out = append(out, x)
		}
	}
	values("setting", r.Settings, v.Found.Settings)
	values("database", r.Database, v.Found.Database)
	for _, name := range r.Functions {
		out = append(out, kind.Requirement{
			Sort:   "function",
			Name:   name,
			Wanted: "not disabled",
			Got:    map[bool]string{true: "it exists", false: "it does not exist"}[v.Found.Functions[name]],
			Holds:  v.Found.Functions[name],
		})
	}
	for _, path := range r.Writable {
		ok := v.Found.Writable[filepath.Join(p.Project, path)]
		out = append(out, kind.Requirement{
			Sort:   "writable",
			Name:   path,
			Wanted: "written by the web process",
			Got:    map[bool]string{true: "it may", false: "it may not, or the path does not exist"}[ok],
			Holds:  ok,
		})
	}
	return out, nil
}
