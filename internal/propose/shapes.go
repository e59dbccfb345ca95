package propose

import (
	_ "embed"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/pelletier/go-toml/v2"
)

//go:embed shapes.toml
var shapesText []byte

// shape is a row of shapes.toml, where its keys are explained.
type shape struct {
	Name, Kind, Command, Root, Tables, Database, Note string
	Files, Needs, Writable, Copy                      []string
	Port                                              bool
}

// shapes are the rows of shapes.toml.
var shapes = sync.OnceValue(func() []shape {
	var table struct{ Shape []shape }
	if err := toml.Unmarshal(shapesText, &table); err != nil {
		panic(err) // it is embedded, and a test reads it
	}
	return table.Shape
})

// program is one program of the folder: what is in a folder of it, and the shape of that.
type program struct {
	folder   string // relative; "." is the whole
	shape    shape
	packages []dependency
	// told is what tells the shape, and entry the file that the shape's last pattern found: app.py.
	told  []Evidence
	entry string
}

// tell returns the shape of a folder, and whether it has one.
func (t *tree) tell(folder string) (program, bool) {
	packages := t.dependencies(folder)
	for _, s := range shapes() {
		p := program{folder: folder, shape: s, packages: packages}
		if t.fits(&p) {
			return p, true
		}
	}
	return program{folder: folder, packages: packages}, false
}

func (t *tree) fits(p *program) bool {
	for _, wanted := range p.shape.Files {
		found := ""
		for _, name := range strings.Split(wanted, "|") {
			if full := path.Join(p.folder, name); t.has(full) || t.hasFolder(full) {
				found = full
				break
			}
		}
		if found == "" {
			return false
		}
		p.entry = found
		if t.has(found) && !slices.Contains([]string{"package.json", "composer.json"}, wanted) {
			p.told = append(p.told, Evidence{File: found, Says: "is there"})
		}
	}
	if len(p.shape.Needs) == 0 {
		return len(p.shape.Files) > 0
	}
	for _, name := range p.shape.Needs {
		if d, ok := find(p.packages, name); ok {
			p.told = append([]Evidence{d.from}, p.told...)
			return true
		}
	}
	return false
}
