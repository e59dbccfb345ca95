package propose

import (
	"encoding/json"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"dravit/internal/pattern"
)

// dependency is a package that a manifest of a folder names.
type dependency struct {
	name string // with its ecosystem: composer:laravel/framework
	from Evidence
	dev  bool // for development only
}

// manifests read the packages that a file names.
var manifests = map[string]func(file string, text []byte) []dependency{
	"composer.json":    composerPackages,
	"package.json":     npmPackages,
	"requirements.txt": requirementsPackages,
	"pyproject.toml":   pyprojectPackages,
	"Pipfile":          pipfilePackages,
	"Gemfile":          linesOf("gem", `(?m)^\s*gem\s+["']([\w.-]+)["']`),
	"go.mod":           linesOf("go", `(?m)^\s*(?:require\s+)?([a-z0-9.-]+\.[a-z]+/\S+) v`),
	"pom.xml":          linesOf("maven", `<artifactId>([\w.-]+)</artifactId>`),
	"build.gradle":     linesOf("maven", `["'][\w.-]+:([\w.-]+)[:"']|id\s*\(?["']([\w.-]+)["']`),
	"build.gradle.kts": linesOf("maven", `["'][\w.-]+:([\w.-]+)[:"']|id\s*\(?["']([\w.-]+)["']`),
}

// dependencies returns the packages that the manifests of a folder name.
func (t *tree) dependencies(folder string) []dependency {
	var all []dependency
	for _, file := range t.in(folder) {
		read := manifests[path.Base(file)]
		if path.Ext(file) == ".csproj" || path.Ext(file) == ".fsproj" {
			read = linesOf("nuget", `<PackageReference\s+Include="([\w.]+)"|<Project\s+Sdk="([\w.]+)"`)
		}
		if read == nil {
			continue
		}
		if text := t.read(file); text != nil {
			all = append(all, read(file, text)...)
		}
	}
	return all
}

func find(all []dependency, name string) (dependency, bool) {
	i := slices.IndexFunc(all, func(d dependency) bool { return d.name == name })
	if i < 0 {
		return dependency{}, false
	}
	return all[i], true
}

// keyed makes dependencies of the keys of a JSON or TOML table.
func keyed[V any](ecosystem, file string, text []byte, table map[string]V, dev bool) []dependency {
	var all []dependency
	for _, name := range slices.Sorted(maps.Keys(table)) {
		line := lineOf(text, `"`+name+`":`)
		if line == 0 {
			line = lineOf(text, name)
		}
		all = append(
			all,
			dependency{ecosystem + ":" + strings.ToLower(name), Evidence{file, line, "requires " + name}, dev},
		)
	}
	return all
}

func composerPackages(file string, text []byte) []dependency {
	var c struct {
		Require map[string]string `json:"require"`
		Dev     map[string]string `json:"require-dev"`
	}
	if json.Unmarshal(text, &c) != nil {
		return nil
	}
	return append(keyed("composer", file, text, c.Require, false), keyed("composer", file, text, c.Dev, true)...)
}

func npmPackages(file string, text []byte) []dependency {
	var p struct {
		Dependencies map[string]string `json:"dependencies"`
		Dev          map[string]string `json:"devDependencies"`
	}
	if json.Unmarshal(text, &p) != nil {
		return nil
	}
	return append(keyed("npm", file, text, p.Dependencies, false), keyed("npm", file, text, p.Dev, true)...)
}

func requirementsPackages(file string, text []byte) []dependency {
	return linesOf("python", `(?m)^\s*([A-Za-z0-9][\w.-]*)`)(file, text)
}

func pyprojectPackages(file string, text []byte) []dependency {
	var p struct {
		Project struct {
			Dependencies []string `toml:"dependencies"`
		} `toml:"project"`
		Tool struct {
			Poetry struct {
				Dependencies map[string]any `toml:"dependencies"`
			} `toml:"poetry"`
		} `toml:"tool"`
	}
	if toml.Unmarshal(text, &p) != nil {
		return nil
	}
	all := keyed("python", file, text, p.Tool.Poetry.Dependencies, false)
	for _, d := range p.Project.Dependencies {
		name := pattern.Of(`^[A-Za-z0-9][\w.-]*`).FindString(d)
		all = append(
			all,
			dependency{"python:" + pythonName(name), Evidence{file, lineOf(text, d), "requires " + name}, false},
		)
	}
	return all
}

func pipfilePackages(file string, text []byte) []dependency {
	var p struct {
		Packages map[string]any `toml:"packages"`
	}
	if toml.Unmarshal(text, &p) != nil {
		return nil
	}
	return keyed("python", file, text, p.Packages, false)
}

// pythonName writes a package's name in the one form that stands for all (packaging.python.org, "Names and
// normalization").
func pythonName(name string) string {
	return pattern.Of(`[-_.]+`).ReplaceAllString(strings.ToLower(name), "-")
}

// linesOf returns a reader of lines that name packages: of its groups, the one that matches is the name.
func linesOf(ecosystem, expression string) func(file string, text []byte) []dependency {
	return func(file string, text []byte) []dependency {
		var all []dependency
		for _, m := range pattern.Of(expression).FindAllSubmatchIndex(text, -1) {
			for i := 2; i < len(m); i += 2 {
				if m[i] < 0 {
					continue
				}
				name := string(text[m[i]:m[i+1]])
				key := strings.ToLower(name)
				if ecosystem == "python" {
					key = pythonName(name)
				}
				line := 1 + strings.Count(string(text[:m[i]]), "\n")
				all = append(
					all,
					dependency{ecosystem + ":" + key, Evidence{file, line, "requires " + name}, false},
				)
			}
		}
		return all
	}
}
