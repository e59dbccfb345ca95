package plan_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dravit/internal/project"
)

// A project on a file system that lacks something is named, with what does not work there.
func TestFileSystems(t *testing.T) {
	modes, notices := "chmod and chown change nothing", "has to poll"
	for _, c := range []struct {
		lacks *project.FileSystem
		says  []string
	}{
		{nil, nil},
		{&project.FileSystem{Name: "vfat", NoModes: true}, []string{modes}},
		{&project.FileSystem{Name: "nfs", NoNotices: true}, []string{notices}},
		{&project.FileSystem{Name: "9p", NoModes: true, NoNotices: true}, []string{modes, notices}},
	} {
		in := machine(t, "debian", "[part.seats]\nkind = \"redis\"\n")
		in.Project.FileSystem = c.lacks
		p := decide(in)
		assert.True(t, p.OK)
		assert.Len(t, p.Warnings, len(c.says))
		for i, text := range c.says {
			assert.Contains(t, p.Warnings[i], "on a file system ("+c.lacks.Name+")")
			assert.Contains(t, p.Warnings[i], text)
		}
	}
}
