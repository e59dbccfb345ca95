package project

import (
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"dravit/internal/confined"
	"dravit/internal/pattern"
	"dravit/internal/version"
)

// Demand is a condition in one of the project's files for a program's version.
type Demand struct {
	Program string          `json:"program"` // php, node, python, ruby, go, npm, ...
	Text    string          `json:"text"`    // in the file's own grammar
	Grammar version.Grammar `json:"grammar"`
	File    string          `json:"file"` // relative to the project
}

// Manifests are the demands in the files of one folder.
type Manifests struct {
	Demands    []Demand `json:"demands,omitempty"`
	Extensions []Wanted `json:"extensions,omitempty"`
	Faults     []string `json:"faults,omitempty"` // files that could not be read, with the reason
}

// Wanted is an extension that a file demands.
type Wanted struct {
	Program string `json:"program"`
	Name    string `json:"name"`
	File    string `json:"file"`
}

// maxManifest bounds how much of one file is read, in bytes.
const maxManifest = 1 << 20

// readManifests reads the files of one folder of the project that say which runtimes it needs.
func readManifests(project, folder string) Manifests {
	var m Manifests
	for _, r := range []struct {
		name string
		read func(m *Manifests, file string, text []byte) error
	}{
		{"composer.json", composerJSON},
		{"package.json", packageJSON},
		{"pyproject.toml", pyproject},
		{"Gemfile", gemfile},
		{"go.mod", goMod},
		{".tool-versions", toolVersions},
		{".nvmrc", pinOf("node")},
		{".node-version", pinOf("node")},
		{".python-version", pinOf("python")},
		{".ruby-version", pinOf("ruby")},
		{".php-version", pinOf("php")},
	} {
		file := filepath.Join(folder, r.name)
		text, err := confined.ReadFile(project, file, maxManifest)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = r.read(&m, file, text)
		}
		if err != nil {
			m.Faults = append(m.Faults, file+": "+err.Error())
		}
	}
	// What cannot be understood is reported, and is no demand.
	m.Demands = slices.DeleteFunc(m.Demands, func(d Demand) bool {
		_, err := version.Read(d.Grammar, d.Text)
		if err != nil {
			m.Faults = append(m.Faults, d.File+": "+err.Error())
		}
		return err != nil
	})
	return m
}

func (m *Manifests) want(program, text string, g version.Grammar, file string) {
	m.Demands = append(m.Demands, Demand{program, strings.TrimSpace(text), g, file})
}

func composerJSON(m *Manifests, file string, text []byte) error {
	var c struct {
		Require map[string]string `json:"require"`
	}
	if err := json.Unmarshal(text, &c); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(c.Require)) {
		if name == "php" || name == "php-64bit" {
			m.want("php", c.Require[name], version.Composer, file)
		}
		if ext, ok := strings.CutPrefix(name, "ext-"); ok {
			m.Extensions = append(m.Extensions, Wanted{"php", strings.ReplaceAll(strings.ToLower(ext), "-", "_"), file})
		}
	}
	return nil
}

func packageJSON(m *Manifests, file string, text []byte) error {
	var p struct {
		Engines        json.RawMessage `json:"engines"`
		PackageManager string          `json:"packageManager"`
	}
	if err := json.Unmarshal(text, &p); err != nil {
		return err
	}
	var engines map[string]string
	_ = json.Unmarshal(p.Engines, &engines) // very old files have a list here, which demands nothing
	for _, name := range slices.Sorted(maps.Keys(engines)) {
		m.want(name, engines[name], version.NPM, file)
	}
	if name, v, ok := strings.Cut(p.PackageManager, "@"); ok { // pnpm@8.6.0+sha256.abc
		v, _, _ = strings.Cut(v, "+")
		m.want(name, v, version.Pin, file)
	}
	return nil
}

func pyproject(m *Manifests, file string, text []byte) error {
	var p struct {
		Project struct {
			RequiresPython string `toml:"requires-python"`
		} `toml:"project"`
		Tool struct {
			Poetry struct {
				Dependencies map[string]any `toml:"dependencies"`
			} `toml:"poetry"`
		} `toml:"tool"`
	}
	if err := toml.Unmarshal(text, &p); err != nil {
		return err
	}
	if p.Project.RequiresPython != "" {
		m.want("python", p.Project.RequiresPython, version.PEP440, file)
	} else if v, ok := p.Tool.Poetry.Dependencies["python"].(string); ok {
		m.want("python", v, version.PEP440, file)
	}
	return nil
}

func gemfile(m *Manifests, file string, text []byte) error {
	if found := pattern.Of(`(?m)^\s*ruby[ (]\s*((?:["'][^"'\n]*["']\s*,?\s*)+)`).FindSubmatch(text); found != nil {
		m.want("ruby", strings.NewReplacer(`"`, "", `'`, "").Replace(string(found[1])), version.RubyGems, file)
	}
	return nil
}

func goMod(m *Manifests, file string, text []byte) error {
	if found := pattern.Of(`(?m)^go\s+(\d[\d.]*\d|\d)`).FindSubmatch(text); found != nil {
		m.want("go", string(found[1]), version.Minimum, file)
	}
	return nil
}

// toolVersions reads lines with a program's name and versions, of which any is acceptable.
func toolVersions(m *Manifests, file string, text []byte) error {
	for line := range strings.Lines(string(text)) {
		line, _, _ = strings.Cut(line, "#")
		words := strings.Fields(line)
		if len(words) < 2 {
			continue
		}
		name := words[0]
		if other, ok := map[string]string{"nodejs": "node", "golang": "go", "postgresql": "postgres"}[name]; ok {
			name = other
		}
		m.want(name, strings.Join(words[1:], " "), version.Pin, file)
	}
	return nil
}

func pinOf(program string) func(*Manifests, string, []byte) error {
	return func(m *Manifests, file string, text []byte) error {
		var words []string
		for line := range strings.Lines(string(text)) {
			line, _, _ = strings.Cut(line, "#")
			words = append(words, strings.Fields(line)...)
		}
		if len(words) == 0 {
			return errors.New("it names no version")
		}
		m.want(program, strings.Join(words, " "), version.Pin, file)
		return nil
	}
}
