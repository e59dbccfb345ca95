package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Messages understand words for kinds and keys that have another name in a stack file.
func TestWordsOfOthers(t *testing.T) {
	w := newWorld(t)
	for text, says := range map[string]string{
		"[part.db]\nkind = \"mysql\"\n":                     "here that is called mariadb",
		"[part.db]\nkind = \"postgresql\"\n":                "here that is called postgres",
		"[part.web]\nkind = \"httpd\"\n":                    "here that is called apache",
		"[part.q]\nkind = \"worker\"\n":                     "custom, with a command",
		"[part.q]\nkind = \"tidal\"\n":                      "python, redis, ruby, sqlite", // the whole list
		"[part.db]\nkind = \"mariadb\"\npassword = \"x\"\n": "Dravit makes the passwords",
		"[[site]]\nname = \"a\"\ndomain = \"a.test\"\n":     "aliases, or suffix",
		"[[site]]\nname = \"a\"\nssl = true\n":              "every site answers over HTTPS",
		"[[site]]\nname = \"a\"\nphp = \"8.2\"\n":           "a part of kind php",
		"[part.app]\nkind = \"node\"\n":                     "has no \"command\"",
		"[part.app]\nkind = \"php\"\nversion = \"  \"\n":    "the version is empty",
		"\xef\xbb\xbfname = \"x\"\n":                        "byte order mark",
	} {
		w.write("dravit.toml", text)
		r := w.dravit("plan")
		assert.Equal(t, 2, r.code, text)
		assert.Contains(t, flat(r.stderr), says, text)
	}
	for word, says := range map[string]string{"up": "dravit start", "down": "dravit stop", "list": "dravit status",
		"init": "dravit propose", "strat": "dravit start", "mark": "dravit db mark"} {
		r := w.dravit(word)
		assert.Equal(t, 2, r.code, word)
		assert.Contains(t, r.stderr, says, word)
	}
	assert.Regexp(t, `^/.+  stopped  nothing was running`, w.must("stop").stdout, "a stack without a name yet")
	for text, says := range map[string]string{
		"[part.db]\nkind = \"mariadb\"\ndatabase = \"mysql\"\n": "the server's own",
		"[part.db]\nkind = \"mariadb\"\nuser = \"root\"\n":      "the server's own",
	} {
		w.write("dravit.toml", text)
		r := w.dravit("plan")
		assert.Equal(t, 3, r.code, text)
		assert.Contains(t, flat(r.all()), says, text)
	}
	// A file of the project is named, with what to do about it.
	w.write(".python-version", "3.7\n")
	w.write("dravit.toml", "[part.app]\nkind = \"python\"\ncommand = \"x\"\n")
	assert.Contains(t, flat(w.dravit("plan").all()), "or change .python-version")

	require.NoError(t, os.Remove(filepath.Join(w.dir, "dravit.toml")))
	r := w.dravit("start")
	assert.Equal(t, 2, r.code)
	assert.NotContains(t, r.stderr, "docs/", "an installed program has no docs folder")
}

// A site's name may have dots, as its aliases may.
func TestSiteNameWithDots(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"x\"\n[[site]]\nname = \"north.quay\"\n")
	w.write("public/index.html", "<h1>North</h1>")
	w.must("start")
	url := w.status().Sites[0].URL
	assert.Contains(t, url, "http://north.quay.localhost")
	_, body, _ := get(t, "GET", url, nil)
	assert.Contains(t, body, "North")
	w.must("check")
}

// If every extension is loaded, one is switched off by a list of those to leave out, which also works on other
// machines.
func TestExtensionsOffLeavesOut(t *testing.T) {
	w := newWorld(t)
	file := "name = \"x\"\n[part.app]\nkind = \"php\"\n[[site]]\nname = \"day\"\napp = \"app\"\n"
	w.write("dravit.toml", file)
	w.write("public/index.php", hello)
	w.must("start")
	w.must("extensions", "off", "redis")
	text, err := os.ReadFile(filepath.Join(w.dir, "dravit.toml"))
	require.NoError(t, err)
	assert.Equal(
		t,
		strings.Replace(file, "kind = \"php\"\n", "kind = \"php\"\nwithout = [\"redis\"]\n", 1),
		string(text),
	)
	assert.NotContains(t, w.must("run", "--", "php", "-m").stdout, "redis")
	w.must("extensions", "on", "redis")
	assert.Contains(t, w.must("run", "--", "php", "-m").stdout, "redis")

	w.write("dravit.toml", strings.Replace(file, "kind = \"php\"\n", "kind = \"php\"\ndebugger = true\n", 1))
	r := w.dravit("extensions", "off", "xdebug")
	assert.Equal(t, 2, r.code)
	assert.Contains(t, r.stderr, "debugger = true")
}

// Shells complete the names of a stack: parts, sites, tasks, marks, databases, and the machine's stacks and kinds.
func TestCompletion(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml",
		"name = \"quay\"\n[part.seats]\nkind = \"dravit-cache\"\n[part.records]\nkind = \"sqlite\"\n"+
			"[[site]]\nname = \"ferry\"\n[[task]]\nname = \"tables\"\ncommand = \"true\"\nwhen = \"by-hand\"\n")
	w.write("public/index.html", "x")
	w.must("start")
	w.must("db", "mark", "low-tide")
	w.must("db", "add", "archive")
	bash := w.command(t.Context(), "completion", "bash")
	script := finish(t, bash).stdout
	w.write("complete.bash", script)
	w.write("complete.fish", w.must("completion", "fish").stdout)
	for line, want := range map[string]string{
		"restart ":          "records seats web",
		"restart seats ":    "records web",
		"check f":           "ferry",
		"task ":             "tables",
		"db rewind ":        "low-tide",
		"db drop ":          "archive",
		"db copy ":          "quay",
		"--stack ":          "quay",
		"logs --stack=quay": "--stack=quay",
		"supply ngi":        "nginx",
		"env --format po":   "powershell",
		"db marks --part ":  "records",
	} {
		words := strings.Split("dravit "+line, " ")
		cmd := exec.Command("bash", "--norc", "-c",
			`source /usr/share/bash-completion/bash_completion
source complete.bash; COMP_LINE="$0"; COMP_POINT=${#0}; COMP_WORDS=("$@")
COMP_CWORD=$(($# - 1)); COMP_TYPE=9; __start_dravit 2>/dev/null; printf '%s\n' "${COMPREPLY[@]}"`, "dravit "+line)
		cmd.Args = append(cmd.Args, words...)
		got := w.shellWords(cmd)
		if strings.Contains(line, "=") {
			continue // bash splits words at = on its own
		}
		assert.Equal(t, want, got, "bash: %s", line)
		fish := exec.Command("fish", "--no-config", "-c", "source complete.fish; complete -C 'dravit "+line+"'")
		assert.Equal(t, want, w.shellWords(fish), "fish: %s", line)
	}
	for shell, check := range map[string]string{"zsh": "zsh -n", "powershell": "grep -q Register-ArgumentCompleter"} {
		w.write("complete", w.must("completion", shell).stdout)
		cmd := exec.Command("sh", "-c", check+" complete")
		cmd.Dir = w.dir
		out, err := cmd.CombinedOutput()
		assert.NoError(t, err, "%s: %s", shell, out)
	}
	assert.Equal(t, w.must("version").stdout, w.must("--version").stdout)
}

// shellWords runs a shell with dravit on its PATH and returns the words that it prints, sorted, without descriptions.
func (w *world) shellWords(cmd *exec.Cmd) string {
	w.t.Helper()
	ours := w.command(w.t.Context())
	cmd.Dir, cmd.Env, cmd.SysProcAttr = ours.Dir, ours.Env, ours.SysProcAttr
	cmd.Env = append(cmd.Env, "PATH="+filepath.Dir(program)+":/usr/bin:/bin")
	out := finish(w.t, cmd).stdout
	var words []string
	for line := range strings.Lines(out) {
		word, _, _ := strings.Cut(strings.TrimSpace(line), "\t")
		word, _, _ = strings.Cut(word, " ")
		if word != "" {
			words = append(words, word)
		}
	}
	slices.Sort(words)
	return strings.Join(words, " ")
}
