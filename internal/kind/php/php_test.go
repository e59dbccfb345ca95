package php

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

var debian = map[string]string{
	factBuiltin:   "core date hash json pcre random spl standard",
	factAvailable: "calendar ctype igbinary intl mysqli mysqlnd opcache pdo pdo_mysql pdo_sqlite phar redis sqlite3 tokenizer xdebug xml dom xmlreader",
	factCLI:       "/usr/bin/php8.2",
}

func TestExtensionsOrder(t *testing.T) {
	load, missing := extensions([]string{"pdo_mysql", "redis", "mysqli", "Xdebug", "json"}, debian)
	assert.Empty(t, missing)
	at := map[string]int{}
	for i, name := range load {
		assert.NotContains(t, at, name, "twice")
		at[name] = i
	}
	for first, then := range map[string]string{"pdo": "pdo_mysql", "mysqlnd": "mysqli", "igbinary": "redis", "xml": "dom", "dom": "xmlreader"} {
		require.Contains(t, at, first)
		assert.Less(t, at[first], at[then], "%s before %s", first, then)
	}
	assert.Contains(t, at, "xdebug", "asked for by its proper name")
	assert.NotContains(t, at, "json", "it is built in")
	assert.NotContains(t, at, "intl", "not wanted")
	assert.Contains(t, at, "tokenizer", "PHP's own build has it")
}

func TestExtensionsUnnamed(t *testing.T) {
	load, missing := extensions(nil, debian)
	assert.Empty(t, missing)
	assert.Contains(t, load, "intl")
	assert.NotContains(t, load, "xdebug", "a debugger is loaded on request only")
	load, _ = extensions([]string{}, debian)
	assert.NotContains(t, load, "intl", "an empty list is a wish, too")
}

func TestExtensionsMissing(t *testing.T) {
	_, missing := extensions([]string{"kelp", "intl", "imagick"}, debian)
	assert.Equal(t, []string{"kelp", "imagick"}, missing)
	assert.Equal(t, "it has no extension kelp", New().Fit(stackfile.Part{Extensions: []string{"kelp"}}, kind.Program{Facts: debian}))
	assert.Empty(t, New().Fit(stackfile.Part{Extensions: []string{"intl"}}, kind.Program{Facts: debian}))
}

func part(t *testing.T) kind.Part {
	return kind.Part{Name: "app", Version: "8.2.36", Program: "/usr/sbin/php-fpm8.2", Facts: debian, Socket: "/tmp/d/app.sock", Conf: t.TempDir(), Temp: "/home/ada lovelace/temp", Log: "/l",
		Self:   "/home/ada o'hara/dravit",
		Env:    []string{"DB_SOCKET=/tmp/d/db.sock", "MAIL_HOST=127.0.0.1", "MAIL_PORT=11025"},
		Stores: []kind.Store{{Name: "db", Kind: "mariadb", Role: kind.Database, Prefix: "DB"}, {Name: "mail", Kind: "dravit-mail", Role: kind.Mail, Prefix: "MAIL"}},
		Want:   stackfile.Part{Extensions: []string{"mysqli"}, Settings: map[string]stackfile.Text{"memory_limit": "99M", "date.timezone": "Pacific/Auckland", "user_agent": `a "b" $c \ d; e`, "error_reporting": "E_ALL & ~E_NOTICE"}}}
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
		"memory_limit = 99M", "date.timezone = Pacific/Auckland", "error_reporting = E_ALL & ~E_NOTICE", "display_errors = On",
		`session.save_path = "/home/ada lovelace/temp"`, `user_agent = "a \"b\" \$c \\ d; e"`, "mysqli.default_socket = /tmp/d/db.sock",
		`sendmail_path = "'/home/ada o'\\''hara/dravit' internal sendmail --to 127.0.0.1:11025 -t -i"`,
	} {
		assert.Contains(t, ini, line+"\n")
	}
	assert.Equal(t, 1, strings.Count(ini, "memory_limit"), "a setting of the stack file replaces the default")
	assert.Contains(t, file(t, part(t), "bin/php"), "exec '/usr/bin/php8.2' -c '")
	modules := file(t, part(t), "php.d/extensions.ini")
	assert.Contains(t, modules, "zend_extension=opcache\n")
	assert.Contains(t, modules, "extension=mysqlnd\nextension=mysqli\n")
	assert.Contains(t, file(t, part(t), "fpm.conf"), "listen.mode = 0600")
}

func TestJudge(t *testing.T) {
	p := part(t)
	for name, c := range map[string]struct {
		status int
		body   string
		want   string
	}{
		"well":          {200, `{"version":"8.2.36","stores":{"db":"ok","mail":"ok"}}`, ""},
		"wrong version": {200, `{"version":"8.4.1","stores":{}}`, "expected PHP 8.2.36, got PHP 8.4.1"},
		"store away":    {200, `{"version":"8.2.36","stores":{"db":"Connection refused","mail":"ok"}}`, "expected PHP reaching db, got Connection refused"},
		"fatal error":   {200, "<b>Fatal error</b>: out of\n memory", "got status 200, <b>Fatal error</b>: out of memory"},
		"not found":     {404, "", "got status 404, nothing"},
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

func TestExplain(t *testing.T) {
	because, _ := php{}.Explain("[23-Nov] NOTICE: x\n[23-Nov] ERROR: [/c/fpm.conf:5] unknown entry 'pmm'\n[23-Nov] ERROR: failed to load\n")
	assert.Equal(t, "[/c/fpm.conf:5] unknown entry 'pmm'", because)
	because, _ = php{}.Explain("PHP Warning:  PHP Startup: Unable to load dynamic library 'kelp' in Unknown")
	assert.Contains(t, because, "Unable to load dynamic library 'kelp'")
	because, _ = php{}.Explain("all is well")
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
			return "PHP Version => 8.2.36\nPHP Extension Build => API20220829,NTS\nextension_dir => " + dir + "/ext => x\n", nil
		case "php-fpm8.2 -n -m":
			return "[PHP Modules]\nCore\nSPL\n\n[Zend Modules]\nZend OPcache\n", nil
		case "php8.2 -n -r echo PHP_VERSION;":
			return "8.2.36", nil
		}
		return "", errors.New("unexpected: " + path)
	}
	version, facts, err := php{}.Probe(t.Context(), filepath.Join(dir, "sbin/php-fpm8.2"), run)
	require.NoError(t, err)
	assert.Equal(t, "8.2.36", version)
	assert.Equal(t, map[string]string{factBuiltin: "core spl opcache", factAvailable: "intl redis", factFolder: dir + "/ext", factAPI: "API20220829,NTS", factCLI: filepath.Join(dir, "bin/php8.2")}, facts)
	_, _, err = php{}.Probe(t.Context(), "/x", func(string, ...string) (string, error) { return "I am a tide table", nil })
	assert.Error(t, err)
}
