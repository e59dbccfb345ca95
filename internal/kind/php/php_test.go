package php

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
)

var debian = map[string]string{
	factBuiltin: "core date hash json pcre random spl standard", factCLI: "/usr/bin/php8.2", factFolder: "/ext/8.2",
	factAPI: "API20220829,NTS", kind.FactArch: "amd64",
}

var php82 = kind.Program{Kind: "php", Version: "8.2.36", Facts: debian}

// folder is one of extension files that were built for the same PHP.
func folder(dir, built, names string) []kind.Module {
	var all []kind.Module
	for _, name := range strings.Fields(names) {
		all = append(all, kind.Module{Kind: "php", Name: name, File: dir + "/" + name + ".so", Built: built,
			Arch: []string{"amd64"}, Engine: name == "opcache" || name == "xdebug"})
	}
	return all
}

var modules82 = folder("/ext/8.2", "API20220829,NTS", "calendar ctype igbinary intl mysqli mysqlnd opcache pdo "+
	"pdo_mysql pdo_sqlite phar redis sqlite3 tokenizer xdebug xml dom xmlreader")

func extend(want []string, modules []kind.Module) (load, missing []string) {
	e := php{}.Extend(stackfile.PartConfig{Extensions: want}, php82, kind.NewLibrary(modules))
	for _, m := range e.Load {
		load = append(load, m.Name)
	}
	for _, c := range e.Missing {
		missing = append(missing, c.Name)
	}
	return load, missing
}

func TestExtensionsOrder(t *testing.T) {
	load, missing := extend([]string{"pdo_mysql", "redis", "mysqli", "Xdebug", "json"}, modules82)
	assert.Empty(t, missing)
	at := map[string]int{}
	for i, name := range load {
		assert.NotContains(t, at, name, "twice")
		at[name] = i
	}
	for first, then := range map[string]string{"pdo": "pdo_mysql", "mysqlnd": "mysqli", "igbinary": "redis",
		"xml": "dom", "dom": "xmlreader"} {
		require.Contains(t, at, first)
		assert.Less(t, at[first], at[then], "%s before %s", first, then)
	}
	assert.Contains(t, at, "xdebug", "asked for by its proper name")
	assert.NotContains(t, at, "json", "it is built in")
	assert.NotContains(t, at, "intl", "not wanted")
	assert.Contains(t, at, "tokenizer", "PHP's own build has it")
}

func TestExtensionsUnnamed(t *testing.T) {
	load, missing := extend(nil, slices.Concat(modules82, folder("/elsewhere", "API20220829,NTS", "kelp")))
	assert.Empty(t, missing)
	assert.Contains(t, load, "intl")
	assert.NotContains(t, load, "xdebug", "a debugger is loaded on request only")
	assert.NotContains(t, load, "kelp", "what lies in other folders is loaded on request only")
	load, _ = extend([]string{}, modules82)
	assert.NotContains(t, load, "intl", "an empty list is a wish, too")
	e := php{}.Extend(stackfile.PartConfig{Extensions: []string{}, Debugger: true}, php82, kind.NewLibrary(modules82))
	assert.True(t, slices.ContainsFunc(e.Load, func(m kind.Module) bool { return m.Name == "xdebug" && m.Engine }))
}

// The file that fits is taken, wherever it lies; what does not fit is named with what it was built for.
func TestExtensionsFit(t *testing.T) {
	other := folder("/ext/7.4", "API20190902,NTS", "kelp redis")
	e := php{}.Extend(stackfile.PartConfig{Extensions: []string{"kelp"}}, php82,
		kind.NewLibrary(slices.Concat(other, modules82)))
	require.Len(t, e.Missing, 1)
	assert.Equal(t, []kind.Option{{Option: "/ext/7.4/kelp.so",
		Because: "it was built for API20190902,NTS, and PHP 8.2.36 is API20220829,NTS"}}, e.Missing[0].Rejected)

	shared := folder("/shared", "API20220829,NTS", "kelp")
	e = php{}.Extend(stackfile.PartConfig{Extensions: []string{"kelp"}}, php82,
		kind.NewLibrary(slices.Concat(other, shared, modules82)))
	require.Empty(t, e.Missing)
	assert.Equal(t, "/shared/kelp.so", e.Chosen[0].File)
	assert.Len(t, e.Chosen[0].Rejected, 1)

	for why, m := range map[string]kind.Module{
		"it was built for arm64, and this PHP is for amd64": {Built: "API20220829,NTS", Arch: []string{"arm64"}},
		"it was built for API20220829,TS, and PHP 8.2.36":   {Built: "API20220829,TS", Arch: []string{"amd64"}},
		"it was built for API20220829,NTS,debug, and PHP 8.2.36": {Built: "API20220829,NTS,debug",
			Arch: []string{"amd64"}},
		"it is broken": {Fault: "it is broken"},
		"it needs the extension barnacle, which this PHP lacks": {Built: "API20220829,NTS",
			Arch: []string{"arm64", "amd64"}, Needs: []string{"barnacle"}},
	} {
		m.Kind, m.Name, m.File = "php", "kelp", "/x/kelp.so"
		e = php{}.Extend(stackfile.PartConfig{Extensions: []string{"kelp"}}, php82,
			kind.NewLibrary(append(slices.Clone(modules82), m)))
		require.Len(t, e.Missing, 1, why)
		assert.Contains(t, e.Missing[0].Rejected[0].Because, why)
	}
}

// An entry may be a file of the project: that one, or none.
func TestExtensionsByPath(t *testing.T) {
	own := kind.Module{Kind: "php", Name: "redis", File: "lib/redis.so",
		Built: "API20220829,NTS", Arch: []string{"amd64"}}
	want := stackfile.PartConfig{Extensions: []string{"./lib/redis.so"}}
	e := php{}.Extend(want, php82, kind.NewLibrary(slices.Concat(modules82, []kind.Module{own})))
	require.Empty(t, e.Missing)
	assert.Equal(t, "lib/redis.so", e.Chosen[0].File)
	own.Built = "API20240924,NTS"
	e = php{}.Extend(want, php82, kind.NewLibrary(slices.Concat(modules82, []kind.Module{own})))
	require.Len(t, e.Missing, 1, "the one of the machine is not the one that was named")
	assert.Contains(t, e.Missing[0].Rejected[0].Because, "API20240924")
}

func TestExtensionsMissing(t *testing.T) {
	_, missing := extend([]string{"kelp", "intl", "imagick"}, modules82)
	assert.Equal(t, []string{"kelp", "imagick"}, missing)
	circle := []kind.Module{{Kind: "php", Name: "a", File: "/a.so", Built: "API20220829,NTS",
		Arch: []string{"amd64"}, Needs: []string{"b"}},
		{Kind: "php", Name: "b", File: "/b.so", Built: "API20220829,NTS",
			Arch: []string{"amd64"}, Needs: []string{"a"}}}
	_, missing = extend([]string{"a"}, circle)
	assert.Equal(t, []string{"a"}, missing, "two that wait for each other never load")
}

func TestList(t *testing.T) {
	modules := slices.Concat(modules82, folder("/ext/7.4", "API20190902,NTS", "kelp redis"))
	e := php{}.Extend(stackfile.PartConfig{Extensions: []string{"redis", "imagick"}}, php82, kind.NewLibrary(modules))
	states := map[string]kind.EntryState{}
	for _, x := range (php{}).List(php82, e, kind.NewLibrary(modules)) {
		states[x.Name] = x.State
	}
	for name, want := range map[string]kind.EntryState{"json": kind.BuiltIn, "redis": kind.Loads,
		"igbinary": kind.Loads, "intl": kind.Available, "kelp": kind.Misfit, "imagick": kind.Lacking} {
		assert.Equal(t, want, states[name], name)
	}
}

func part(t *testing.T) kind.Part {
	return kind.Part{Name: "app", Version: "8.2.36", Program: "/usr/sbin/php-fpm8.2", Facts: debian,
		Modules: php{}.Extend(stackfile.PartConfig{Extensions: []string{"mysqli"}}, php82,
			kind.NewLibrary(modules82)).Load, Socket: "/tmp/d/app.sock", Conf: t.TempDir(),
		Temp: "/home/ada lovelace/temp",
		Keep: "/home/ada lovelace/keep", Log: "/l",
		Self: "/home/ada o'hara/dravit",
		Env:  []string{"DB_SOCKET=/tmp/d/db.sock", "MAIL_HOST=127.0.0.1", "MAIL_PORT=11025"},
		Stores: []kind.StoreRef{
			{Name: "db", Kind: "mariadb", Role: kind.RoleDatabase, Prefix: "DB"},
			{Name: "mail", Kind: "dravit-mail", Role: kind.RoleMail, Prefix: "MAIL"},
		},
		Want: stackfile.PartConfig{Extensions: []string{"mysqli"},
			Settings: map[string]stackfile.Text{"memory_limit": "99M", "date.timezone": "Pacific/Auckland",
				"user_agent": `a "b" $c \ d; e`, "error_reporting": "E_ALL & ~E_NOTICE"}}}
}

func file(t *testing.T, p kind.Part, name string) string {
	t.Helper()
	files, err := New().Files(p)
	require.NoError(t, err)
	for _, f := range files {
		if f.Name == name {
			return f.Text
		}
	}
	require.Fail(t, "no file "+name)
	return ""
}

func TestIni(t *testing.T) {
	ini := file(t, part(t), "php.ini")
	for _, line := range []string{
		"memory_limit = 99M", "date.timezone = Pacific/Auckland",
		"error_reporting = E_ALL & ~E_NOTICE", "display_errors = On",
		`session.save_path = "/home/ada lovelace/keep"`, `user_agent = "a \"b\" \$c \\ d; e"`,
		"mysqli.default_socket = /tmp/d/db.sock",
		`sendmail_path = "'/home/ada o'\\''hara/dravit' internal sendmail --to 127.0.0.1:11025 -t -i"`,
	} {
		assert.Contains(t, ini, line+"\n")
	}
	assert.Equal(t, 1, strings.Count(ini, "memory_limit"), "a setting of the stack file replaces the default")
	assert.Contains(t, file(t, part(t), "bin/php"), "exec /usr/bin/php8.2 -c /")
	modules := file(t, part(t), "php.d/extensions.ini")
	assert.Contains(t, modules, "zend_extension=/ext/8.2/opcache.so\n")
	assert.Contains(t, modules, "extension=/ext/8.2/mysqlnd.so\nextension=/ext/8.2/mysqli.so\n")
	assert.Contains(t, file(t, part(t), "fpm.conf"), "listen.mode = 0600")
}

// A page that sleeps does not keep a process for ever; one that is debugged or may take long does.
func TestLongestPage(t *testing.T) {
	limit := func(seconds string, debug int) string {
		p := part(t)
		p.Debug = debug
		if seconds != "" {
			p.Want.Settings = map[string]stackfile.Text{"max_execution_time": stackfile.Text(seconds)}
		}
		return pattern.Of(`request_terminate_timeout = \d+`).FindString(file(t, p, "fpm.conf"))
	}
	assert.Equal(t, "request_terminate_timeout = 3600", limit("", 0))
	assert.Equal(t, "request_terminate_timeout = 3600", limit("30", 0))
	assert.Equal(t, "request_terminate_timeout = 7200", limit("7200", 0))
	assert.Empty(t, limit("0", 0))
	assert.Empty(t, limit("", 9003))
	means, _ := kind.Explain(symptoms(), `[01-Dec-2026 10:00:00] WARNING: [pool www] child 71, script '/p/tide.php' `+
		`(request: "GET /tide.php") execution timed out (3600.412000 sec), terminating`, "app")
	assert.Equal(t, "the script /p/tide.php ran longer than 3600 s, and FPM ended it", means)
}

func TestJudge(t *testing.T) {
	p := part(t)
	p.Modules = []kind.Module{{Name: "redis"}, {Name: "opcache"}}
	p.Facts = map[string]string{factBuiltin: "core"}
	for name, c := range map[string]struct {
		status int
		body   string
		want   string
	}{
		"well": {200,
			`{"version":"8.2.36","stores":{"db":"ok","mail":"ok"},"extensions":["Core","Zend OPcache","redis"]}`, ""},
		"an extension": {200,
			`{"version":"8.2.36","stores":{"db":"could not find driver"},"extensions":["Core","Zend OPcache"]}`,
			"expected 2 extensions in the web process, got it lacks redis"},
		"another name": {200,
			`{"version":"8.2.36","stores":{"db":"ok"},"extensions":["Core","Zend OPcache","Barnacle Loader"]}`, ""},
		"wrong version": {200, `{"version":"8.4.1","stores":{}}`, "expected PHP 8.2.36, got PHP 8.4.1"},
		"store away": {200, `{"version":"8.2.36","stores":{"db":"Connection ` +
			`refused","mail":"ok"},"extensions":["redis","Zend OPcache"]}`,
			"expected PHP reaching db, got Connection refused"},
		"fatal error": {200, "<b>Fatal error</b>: out of\n memory",
			"got status 200, <b>Fatal error</b>: out of memory"},
		"not found": {404, "", "got status 404, nothing"},
	} {
		err := judge(p, c.status, []byte(c.body))
		if c.want == "" {
			assert.NoError(t, err, name)
			continue
		}
		assert.ErrorContains(t, err, c.want, name)
		var miss *kind.Miss
		assert.True(t, errors.As(err, &miss), name)
	}
}

func TestLastWords(t *testing.T) {
	because := php{}.LastWords("[23-Nov] NOTICE: x\n[23-Nov] ERROR: [/c/fpm.conf:5] unknown entry 'pmm'\n" +
		"[23-Nov] ERROR: failed to load\n")
	assert.Equal(t, "[/c/fpm.conf:5] unknown entry 'pmm'", because)
	because = php{}.LastWords("PHP Warning:  PHP Startup: Unable to load dynamic library 'kelp' in Unknown")
	assert.Contains(t, because, "Unable to load dynamic library 'kelp'")
	because = php{}.LastWords("all is well")
	assert.Empty(t, because)
}

func TestToken(t *testing.T) {
	p := part(t)
	_, err := php{}.ProbeToken(p)
	assert.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, os.WriteFile(filepath.Join(p.Conf, "token"), []byte("salt\n"), 0o600))
	got, err := php{}.ProbeToken(p)
	require.NoError(t, err)
	assert.Equal(t, "salt", got)
	var list []map[string]string
	require.NoError(t, json.Unmarshal([]byte(file(t, p, "stores.json")), &list))
	assert.Equal(t, "DB", list[0]["prefix"])
	assert.NotContains(t, file(t, p, "stores.json"), "assword")
}

// The probe asks programs what they are; what it takes for PHP must be one.
func TestProbeReadsBuildFacts(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "sbin"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "bin"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "ext"), 0o755))
	for _, f := range []string{"sbin/php-fpm8.2", "bin/php8.2", "ext/intl.so", "ext/redis.so", "ext/readme.txt"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, f), nil, 0o755))
	}
	run := func(path string, args ...string) (string, error) {
		switch strings.Join(append([]string{filepath.Base(path)}, args...), " ") {
		case "php-fpm8.2 -i":
			return "PHP Version => 8.2.36\nSystem => Linux quay 6.1.0 #1 SMP x86_64\nLoaded Configuration File => " +
				"(none)\nThread Safety => disabled\nPHP Extension Build => API20220829,NTS\nextension_dir => " +
				dir + "/ext => x\n", nil
		case "php-fpm8.2 -n -m":
			return "[PHP Modules]\nCore\nSPL\n\n[Zend Modules]\nZend OPcache\n", nil
		case "php8.2 -n -r echo PHP_VERSION;":
			return "8.2.36", nil
		}
		return "", errors.New("unexpected: " + path)
	}
	version, facts, err := php{}.Inspect(t.Context(), filepath.Join(dir, "sbin/php-fpm8.2"), run)
	require.NoError(t, err)
	assert.Equal(t, "8.2.36", version)
	assert.Equal(t, map[string]string{factBuiltin: "core spl opcache", factThreads: "disabled", kind.FactArch: "amd64",
		factFolder: dir + "/ext", factAPI: "API20220829,NTS", factCLI: filepath.Join(dir, "bin/php8.2")}, facts)
	_, _, err = php{}.Inspect(t.Context(), "/x", func(string, ...string) (string, error) {
		return "I am a tide table", nil
	})
	assert.Error(t, err)
}

// A page that PHP ended with an error says so, whatever its status; one that speaks of errors does not.
func TestFault(t *testing.T) {
	assert.Equal(t, "Fatal error: Uncaught Exception: low tide in /p/index.php:3",
		php{}.Fault([]byte("\nFatal error: Uncaught Exception: low tide in /p/index.php:3\nStack trace:\n")))
	assert.Equal(t, "Parse error: syntax error in x on line 1",
		php{}.Fault([]byte("PHP Parse error: syntax error in x on line 1\n")))
	for _, page := range []string{"", "<h1>Fatal error: a play in three acts</h1>", "Warning: x in y on line 3"} {
		assert.Empty(t, php{}.Fault([]byte(page)), page)
	}
}

// A store that the probe has no client for was not asked: that is neither well nor unwell.
func TestStoreThatWasNotAsked(t *testing.T) {
	p := part(t)
	p.Stores = []kind.StoreRef{{Name: "db"}, {Name: "signals", Kind: "semaphore"}, {Name: "mail"}}
	body := `{"version": "` + p.Version + `", "extensions": [%s], "stores": {"db": "ok", "signals": null, "mail": %q}}`
	var loaded []string
	for _, m := range p.Modules {
		loaded = append(loaded, fmt.Sprintf("%q", m.Name))
	}
	answer := func(mail string) []byte { return fmt.Appendf(nil, body, strings.Join(loaded, ","), mail) }
	legs := php{}.Legs(p, answer("ok"))
	require.Len(t, legs, 4)
	assert.True(t, *legs[1].Holds)
	assert.Nil(t, legs[2].Holds)
	assert.Equal(t, "the probe has no client for semaphore", legs[2].Got)
	assert.True(t, *legs[3].Holds)
	assert.NoError(t, php{}.Judge(p, 200, answer("ok")))
	assert.ErrorContains(t, php{}.Judge(p, 200, answer("")), "PHP reaching mail", "an empty answer is one")
}

// FPM knows systemd_interval only where it was built with systemd: not on Alpine, with Homebrew, or compiled by hand.
func TestSystemdIsNamedWhereFPMKnowsIt(t *testing.T) {
	for _, knows := range []bool{true, false} {
		_, facts, err := New().Inspect(t.Context(), "/no/such/php-fpm", func(_ string, args ...string) (string, error) {
			switch {
			case args[0] == "-i":
				return "PHP Version => 8.4.1\n", nil
			case slices.Contains(args, "-t"):
				text, err := os.ReadFile(args[len(args)-1])
				require.NoError(t, err)
				assert.Contains(t, string(text), "systemd_interval")
				if !knows {
					return "ERROR: unknown entry 'systemd_interval'", errors.New("exit status 78")
				}
			}
			return "", nil
		})
		require.NoError(t, err)
		text := pool(kind.Part{Facts: facts})
		assert.Equal(t, knows, strings.Contains(text, "systemd_interval"))
		assert.Contains(t, text, "\nprocess_control_timeout")
	}
}

// Homebrew keeps OPcache in the program's own folder, and names it in an ini file by its path.
func TestFoldersThatIniFilesName(t *testing.T) {
	dir := t.TempDir()
	own, scan := filepath.Join(dir, "pecl", "20240924"), filepath.Join(dir, "conf.d")
	require.NoError(t, os.MkdirAll(own, 0o755))
	require.NoError(t, os.MkdirAll(scan, 0o755))
	require.NoError(
		t,
		os.WriteFile(filepath.Join(dir, "php.ini"), []byte("; extension=/commented/out.so\nextension=curl\n"+
			"extension=/opt/boats/boat.so\n"), 0o644),
	)
	require.NoError(t, os.WriteFile(filepath.Join(scan, "ext-opcache.ini"),
		[]byte("[opcache]\n zend_extension = \"/opt/homebrew/opt/php/lib/php/20240924/opcache.so\"\n"+
			"extension="+own+"/redis.so\n"), 0o644))
	assert.Equal(t, []string{own, "/opt/boats", "/opt/homebrew/opt/php/lib/php/20240924"},
		php{}.ModuleFolders(kind.Program{Facts: map[string]string{factFolder: own, factScan: scan,
			factIni: filepath.Join(dir, "php.ini")}}))
	assert.Equal(t, "php-legacy", filepath.Base(cliOf(t, "php-fpm-legacy", "php-legacy")), "Arch")
	assert.Equal(t, "php82", filepath.Base(cliOf(t, "php-fpm82", "php82")), "Alpine")
}

// cliOf returns the command-line program that is found for an FPM in sbin, if a program of that name is in bin.
func cliOf(t *testing.T, fpm, name string) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "bin"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bin", name), nil, 0o755))
	return cli(
		filepath.Join(dir, "sbin", fpm),
		"8.2.1",
		func(string, ...string) (string, error) { return "8.2.1", nil },
	)
}
