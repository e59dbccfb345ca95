package python

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/confined"
	"dravit/internal/kind"
	"dravit/internal/kind/command"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
)

// venv is a project's virtual environment (PEP 405).
type venv struct{ dir, version string }

// environment returns the virtual environment nearest to the folder in which a part's command works.
func environment(project string, want stackfile.PartConfig) (venv, bool) {
	for _, folder := range want.Above() {
		for _, name := range []string{".venv", "venv", "env"} {
			dir := filepath.Join(folder, name)
			text, err := confined.ReadFile(project, filepath.Join(dir, "pyvenv.cfg"), maxRead)
			if err != nil {
				continue
			}
			if m := pattern.Of(`(?m)^version(?:_info)?\s*=\s*(\d+\.\d+\S*)`).FindSubmatch(text); m != nil {
				return venv{dir, string(m[1])}, true
			}
		}
	}
	return venv{}, false
}

const (
	maxRead    = 1 << 20 // bytes of one file
	maxEntries = 20_000  // of one folder
)

// series returns the part of a version within which compiled packages fit: 3.11.
func series(version string) string {
	numbers := strings.Split(version, ".")
	return strings.Join(numbers[:min(2, len(numbers))], ".")
}

// abi returns the tag of a release's compiled files (PEP 3149): cpython-311.
func abi(version string) string { return "cpython-" + strings.ReplaceAll(series(version), ".", "") }

// Scan reads what the project's virtual environment was made with, which of its packages are compiled for which
// interpreter, and which packages of requirements.txt it lacks.
func (python) Scan(project string, want stackfile.PartConfig) []kind.Module {
	env, ok := environment(project, want)
	if !ok {
		return nil
	}
	all := []kind.Module{{
		Kind:  "python",
		Name:  env.dir,
		File:  filepath.Join(env.dir, "pyvenv.cfg"),
		Built: abi(env.version),
	}}
	sites, _ := filepath.Glob(filepath.Join(pattern.Literal(project), env.dir, "lib", "python*", "site-packages"))
	installed := map[string]bool{}
	for _, site := range sites {
		rel, err := filepath.Rel(project, site)
		if err != nil {
			continue
		}
		entries, _ := confined.ReadDir(project, rel, maxEntries)
		for _, e := range entries {
			if name, ok := strings.CutSuffix(e.Name(), ".dist-info"); ok {
				name, _, _ = strings.Cut(name, "-")
				installed[normal(name)] = true
			}
			if m, ok := compiled(project, site, e); ok {
				all = append(all, m)
			}
		}
	}
	manifest := filepath.Join(filepath.Dir(env.dir), "requirements.txt")
	text, _ := confined.ReadFile(project, manifest, maxRead)
	for line := range strings.Lines(string(text)) {
		m := pattern.Of(`^([A-Za-z0-9][A-Za-z0-9._-]*)\s*(?:\[[^\]]*\])?\s*(?:[=<>!~;#@].*)?$`).
			FindStringSubmatch(strings.TrimSpace(line))
		if m != nil && !installed[normal(m[1])] {
			all = append(all, kind.Module{
				Kind:  "python",
				Name:  m[1],
				File:  manifest,
				Fault: "it is not installed in " + env.dir,
			})
		}
	}
	return all
}

// normal returns a package's name in the form in which names are compared (PEP 503).
func normal(name string) string {
	return pattern.Of(`[-_.]+`).ReplaceAllString(strings.ToLower(name), "-")
}

// compiled returns the first compiled file of a package. Files for the stable ABI (abi3) fit every interpreter.
func compiled(project, site string, e os.DirEntry) (kind.Module, bool) {
	names := []string{e.Name()}
	if e.IsDir() {
		names = nil
		for _, sub := range []string{".", "_core", "core", "lib", "_libs"} {
			rel, _ := filepath.Rel(project, filepath.Join(site, e.Name(), sub)) // site is below project
			inner, _ := confined.ReadDir(project, rel, maxEntries)
			for _, f := range inner {
				names = append(names, filepath.Join(e.Name(), sub, f.Name()))
			}
		}
	}
	slices.Sort(names)
	for _, name := range names {
		m := pattern.Of(`\.(cpython-\d+[a-z]*)-[^/]*\.so$`).FindStringSubmatch(name)
		if m == nil {
			continue
		}
		rel, err := filepath.Rel(project, filepath.Join(site, name))
		pkg, _, _ := strings.Cut(e.Name(), ".")
		return kind.Module{Kind: "python", Name: pkg, File: rel, Built: m[1]}, err == nil
	}
	return kind.Module{}, false
}

// Extend decides whether the project's virtual environment and its packages fit.
func (python) Extend(_ stackfile.PartConfig, p kind.Program, l *kind.Library) kind.Extended {
	return command.Judge("python", p.Facts[factABI], "ABI", p, l)
}

func (python) List(_ kind.Program, e kind.Extended, _ *kind.Library) []kind.Entry {
	return command.List(e)
}

// Build says what compiled modules are named after, and whether virtual environments can be made.
func (python) Build(p kind.Program, _ []kind.Module) []string {
	return p.Words([2]string{"%s", factABI}, [2]string{"virtual environments: %s", factVenv},
		[2]string{"%s", kind.FactArch})
}

// otherwise are the packages of the registry whose module has another name than they have.
var otherwise = map[string]string{
	"attr": "attrs", "bs4": "beautifulsoup4", "crypto": "pycryptodome", "cv2": "opencv-python",
	"dateutil": "python-dateutil", "decouple": "python-decouple", "docx": "python-docx", "dotenv": "python-dotenv",
	"environ": "django-environ", "fitz": "pymupdf", "git": "gitpython", "jose": "python-jose", "jwt": "pyjwt",
	"magic": "python-magic", "memcache": "python-memcached", "mysqldb": "mysqlclient", "openssl": "pyopenssl",
	"paho": "paho-mqtt", "pil": "pillow", "pkg_resources": "setuptools", "distutils": "setuptools",
	"psycopg2": "psycopg2-binary", "rest_framework": "djangorestframework", "corsheaders": "django-cors-headers",
	"debug_toolbar": "django-debug-toolbar", "serial": "pyserial", "sklearn": "scikit-learn",
	"skimage": "scikit-image", "slugify": "python-slugify", "telegram": "python-telegram-bot", "yaml": "pyyaml",
	"zmq": "pyzmq",
}

// packageOf implements kind.Code.
func packageOf(module string) string {
	first, _, _ := strings.Cut(strings.ToLower(module), ".")
	if name, ok := otherwise[first]; ok {
		return name
	}
	if !pattern.Of(`^[a-z]\w*$`).MatchString(first) { // _sqlite3 and the like are Python's own
		return ""
	}
	return strings.ReplaceAll(first, "_", "-")
}
