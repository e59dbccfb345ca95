package survey

import (
	"cmp"
	"context"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"dravit/internal/confined"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
)

// Tool is a command-line program by name, with every file of that name: first the one that PATH picks.
type Tool struct {
	Name  string  `json:"name"`
	Found []Found `json:"found"`
}

// Found is one of them.
type Found struct {
	Path    string `json:"path"`
	Version string `json:"version"` // "" if it prints none
	Origin  string `json:"origin"`
	OnPath  bool   `json:"on_path"`
}

// Picked returns the file that PATH picks, or nil if no folder of PATH has one.
func (t Tool) Picked() *Found {
	if len(t.Found) > 0 && t.Found[0].OnPath {
		return &t.Found[0]
	}
	return nil
}

// told is the remembered answer of one program.
type told struct {
	Size    int64     `json:"size"`
	ModTime time.Time `json:"mod_time"`
	Version string    `json:"version"`
	Until   time.Time `json:"until,omitzero"` // when to ask again: it told no version, perhaps as a library is missing
}

// manner is how a program prints its version: its arguments, and a pattern whose first group is the version.
type manner struct{ args, pattern string }

const usualNumber = `(\d+(?:\.\d+)+(?:-?(?:alpha|beta|rc)\.?\d*)?)`

// manners are those of known programs. If an entry has no pattern, the version is the first number with a dot.
var manners = map[string]manner{
	"ansible":   {},
	"autoconf":  {},
	"aws":       {},
	"bash":      {},
	"bun":       {},
	"bundle":    {},
	"bzip2":     {args: "--help"},
	"cargo":     {},
	"clang":     {},
	"cmake":     {},
	"composer":  {args: "--version --no-ansi --no-interaction"},
	"convert":   {args: "-version"},
	"curl":      {},
	"deno":      {},
	"dot":       {args: "-V"},
	"dotnet":    {},
	"elixir":    {args: "--short-version"},
	"erl":       {args: "-noshell -eval io:put_chars(erlang:system_info(otp_release)),halt().", pattern: `^(\d+)`},
	"esbuild":   {},
	"ffmpeg":    {args: "-version"},
	"g++":       {args: "-dumpfullversion"},
	"gcc":       {args: "-dumpfullversion"},
	"gem":       {},
	"gh":        {},
	"ghc":       {args: "--numeric-version"},
	"git":       {},
	"git-lfs":   {args: "version"},
	"go":        {args: "version", pattern: `go` + usualNumber},
	"gpg":       {},
	"gradle":    {args: "--version", pattern: `Gradle ` + usualNumber},
	"gs":        {},
	"hg":        {},
	"java":      {args: "-version", pattern: `version "(?:1\.)?(\d+[\d.]*)`},
	"javac":     {args: "-version", pattern: `javac (?:1\.)?(\d+[\d.]*)`},
	"jq":        {pattern: `jq-(\d+(?:\.\d+)*)`},
	"julia":     {},
	"kotlin":    {args: "-version"},
	"less":      {pattern: `less (\d+)`},
	"lua":       {args: "-v"},
	"magick":    {args: "-version"},
	"make":      {},
	"mariadb":   {pattern: `(?:Distrib |from )` + usualNumber},
	"meson":     {},
	"mvn":       {pattern: `Maven ` + usualNumber},
	"mysql":     {pattern: `(?s)^(?:.*(?:Distrib |from )|.*?Ver )` + usualNumber},
	"mysqldump": {pattern: `(?:Distrib |from )` + usualNumber},
	"nasm":      {args: "-v"},
	"ninja":     {},
	"node":      {},
	"npm":       {},
	"npx":       {},
	"openssl":   {args: "version", pattern: `SSL ` + usualNumber},
	"pandoc":    {},
	"patch":     {},
	"perl":      {args: "-v", pattern: `\(v` + usualNumber},
	"pg_dump":   {},
	"php":       {args: "-n -v"},
	"pip":       {},
	"pip3":      {},
	"pnpm":      {},
	"protoc":    {},
	"psql":      {},
	"python":    {},
	"python3":   {},
	"R":         {},
	"rake":      {},
	"redis-cli": {},
	"rsync":     {pattern: `version ` + usualNumber},
	"ruby":      {args: "-v", pattern: `ruby ` + usualNumber},
	"rustc":     {},
	"sass":      {},
	"sbt":       {args: "--script-version"},
	"scala":     {args: "-version"},
	"sqlite3":   {},
	"ssh":       {args: "-V", pattern: `OpenSSH_(\d+\.\d+)`},
	"svn":       {},
	"swift":     {args: "-version", pattern: `Swift version ` + usualNumber},
	"tar":       {},
	"terraform": {args: "version"},
	"tesseract": {},
	"tmux":      {args: "-V", pattern: `(\d+\.\d+)`},
	"tsc":       {},
	"unzip":     {args: "-v", pattern: `UnZip ` + usualNumber},
	"uv":        {},
	"wget":      {},
	"xmllint":   {pattern: `libxml version (\d+)`},
	"xz":        {}, "yarn": {}, "zip": {args: "-v", pattern: `Zip ` + usualNumber}, "zsh": {}, "zstd": {},
}

// Known returns the names of the programs in manners.
func Known() []string { return slices.Sorted(maps.Keys(manners)) }

// mannerOf returns how to ask a program: as the settings of this machine say, else as the stack file says (which may
// only choose among WaysToAsk), else as in manners, else with --version.
func (m Machine) mannerOf(name string, want stackfile.Require) manner {
	known := manners[name]
	return manner{cmp.Or(m.Settings.Ask[name], want.Ask, known.args, "--version"),
		cmp.Or(want.Pattern, known.pattern, usualNumber)}
}

// tools asks the programs of these names for their versions, each file once. The answers are there after wg.Wait.
func (l *looker) tools(ctx context.Context, wg *sync.WaitGroup, requires map[string]stackfile.Require) []Tool {
	tools := make([]Tool, 0, len(requires))
	for _, name := range slices.Sorted(maps.Keys(requires)) {
		m := l.mannerOf(name, requires[name])
		re, err := regexp.Compile(m.pattern)
		if err != nil {
			continue // the reader of the stack file rejected it
		}
		found := l.named(name)
		for i := range found {
			l.askTool(ctx, wg, &found[i], m, re)
		}
		tools = append(tools, Tool{name, found})
	}
	return tools
}

// named returns every file of a name on the search path, each real file once, those on PATH first.
func (l *looker) named(name string) []Found {
	all := []Found{}
	seen := map[string]bool{}
	onPath := filepath.SplitList(l.Path)
	for _, in := range l.search {
		if in.only != "" && in.only != name {
			continue
		}
		file := filepath.Join(in.dir, name)
		if _, err := os.Stat(l.Root + file); err != nil {
			continue
		}
		resolved := l.real(file)
		if seen[resolved] || !l.runnable(resolved) || l.ofProject(resolved) {
			continue
		}
		seen[resolved] = true
		all = append(all, Found{
			Path:   file,
			Origin: in.origin,
			OnPath: slices.ContainsFunc(onPath, func(d string) bool { return filepath.Clean(d) == in.dir }),
		})
	}
	return all
}

// ofProject reports whether a program is in the project's folder. Nothing of a repository runs before start.
func (l *looker) ofProject(resolved string) bool {
	return l.Project != "" && confined.Inside(l.Project, resolved)
}

func (l *looker) askTool(ctx context.Context, wg *sync.WaitGroup, f *Found, m manner, re *regexp.Regexp) {
	info, err := os.Stat(l.Root + f.Path)
	if err != nil {
		return
	}
	key := strings.Join([]string{f.Path, m.args, m.pattern}, " ")
	if was, ok := l.known.Tools[key]; ok && was.Size == info.Size() && was.ModTime.Equal(info.ModTime()) &&
		(was.Until.IsZero() || time.Now().Before(was.Until)) {
		f.Version = was.Version
		l.mu.Lock()
		l.fresh.Tools[key] = was
		l.mu.Unlock()
		return
	}
	wg.Go(func() {
		l.limit <- struct{}{}
		defer func() { <-l.limit }()
		// some print their version and exit with an error
		out, _ := l.run(ctx, l.Root+f.Path, strings.Fields(m.args)...)
		f.Version = firstVersion(re, out)
		l.mu.Lock()
		defer l.mu.Unlock()
		l.changed = true
		answer := told{Size: info.Size(), ModTime: info.ModTime(), Version: f.Version}
		if f.Version == "" {
			answer.Until = time.Now().Add(patience)
		}
		l.fresh.Tools[key] = answer
	})
}

func firstVersion(re *regexp.Regexp, out string) string {
	if m := re.FindStringSubmatch(out); len(m) > 1 {
		return m[1]
	}
	if re.String() == usualNumber { // also a number without a dot
		if m := pattern.Of(`(?m)^\D{0,20}?(\d+)\b`).FindStringSubmatch(out); m != nil {
			return m[1]
		}
	}
	return ""
}
