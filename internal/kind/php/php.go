// Package php is the kind for the PHP runtime: its process manager FPM, which serves pages, and the command-line
// program.
package php

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"dravit/internal/cause"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/objfile"
	"dravit/internal/pattern"
	"dravit/internal/shell"
	"dravit/internal/stackfile"
)

// New returns the kind.
func New() kind.Kind { return php{} }

type php struct {
	kind.Defaults
	kind.RuntimeDefaults
}

var (
	_ kind.Runtime   = php{}
	_ kind.PageMaker = php{}
)

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Name:        "php",
		Role:        kind.RoleRuntime,
		Keys:        []string{"extensions", "without", "settings", "debugger", "writable", "requires"},
		Programs:    []string{"php-fpm", "php-fpm[0-9]*", "php-fpm-[a-z]*"},
		Interpreter: "php",
		Extensions:  true,
		ExtensionOf: extensionOf,
		Code: &kind.Code{Title: "pages of PHP", Pages: ".php", Ecosystem: "composer", Manifest: "composer.json",
			Install: []kind.Installation{{There: "vendor", Command: "composer install --no-interaction"}}},
		System: map[string]string{"apt-get": "php-fpm", "dnf": "php-fpm", "pacman": "php-fpm", "zypper": "php8-fpm",
			"apk": "php84-fpm", "brew": "php"},
		Packages: packages(),
		Debugger: debugger,
		Settings: known(),
		Rules:    rules(),
		Raises: map[cause.ID][]kind.Raise{
			cause.MemoryLimit: {{Settings: []string{"memory_limit"}, Bytes: true, Times: 2,
				Number: pattern.New(`\((\d+) bytes\)`), Least: 512}},
			cause.TimeLimit: {{Settings: []string{"max_execution_time"}, If: "max_execution_time",
				Number: pattern.New(`\((\d+) s\)`), Times: 4, Least: 120},
				{Settings: []string{"max_execution_time"}, Value: "0"}},
			cause.UploadLimit: {{Settings: []string{"post_max_size", "upload_max_filesize"}, Bytes: true, Times: 2,
				Number: pattern.New(`Content-Length of (\d+) bytes`), Least: 256}},
		},
		Symptoms: symptoms(),
	}
})

func (php) Traits() *kind.Traits { return traits() }

func (php) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{Socket: true} }

// Facts of a PHP program, beside its version:
const (
	factCLI     = "cli"           // the command-line program of the same version
	factFolder  = "extension_dir" // where its extension files are
	factBuiltin = "built_in"      // extensions that need no file
	factAPI     = "extension_api" // what its extensions must be built for: API20220829,NTS
	factEngine  = "engine_api"    // the same of those that hook into the engine: API420220829,NTS
	factThreads = "thread_safety"
	factDebug   = "debug_build"
	factIni     = "ini_file" // of the system's, which Dravit never changes and whose settings it does not use
	factScan    = "ini_folder"
	factSystemd = "systemd" // FPM was built with systemd, and knows systemd_interval
)

var (
	versionLine = pattern.New(`(?m)^PHP Version => (\S+)`)
	factLine    = pattern.New(`(?m)^(extension_dir|PHP Extension Build|Zend Extension Build|Thread Safety|` +
		`Debug Build|Loaded Configuration File|Scan this dir for additional \.ini files|System) => (.*?)(?: =>.*)?\r?$`)
	moduleLine = pattern.New(`(?m)^([A-Za-z0-9_]+|Zend OPcache)\r?$`)
)

func (php) Inspect(ctx context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	info, err := run(path, "-i")
	v := versionLine().FindStringSubmatch(info)
	if err != nil || v == nil {
		return "", nil, fmt.Errorf("%s prints no version: %w", path, err)
	}
	facts := map[string]string{}
	words := map[string]string{"extension_dir": factFolder, "PHP Extension Build": factAPI,
		"Zend Extension Build": factEngine, "Thread Safety": factThreads,
		"Debug Build": factDebug, "Loaded Configuration File": factIni,
		"Scan this dir for additional .ini files": factScan}
	for _, m := range factLine().FindAllStringSubmatch(info, -1) {
		if word := words[m[1]]; word != "" && m[2] != "(none)" {
			facts[word] = m[2]
		} else if m[1] == "System" { // Linux host 6.1.0 #1 SMP x86_64
			facts[kind.FactArch] = machine(m[2])
		}
	}
	if f, err := objfile.Open(path); err == nil && len(f.Arch) == 1 { // not a script that starts the program
		facts[kind.FactArch] = f.Arch[0]
	}
	if knowsSystemd(path, run) {
		facts[factSystemd] = "yes"
	}
	modules, err := run(path, "-n", "-m")
	if err != nil {
		return "", nil, err
	}
	var names []string
	for _, m := range moduleLine().FindAllStringSubmatch(modules, -1) {
		names = append(names, canonical(m[1]))
	}
	facts[factBuiltin] = strings.Join(names, " ")
	facts[factCLI] = cli(path, v[1], run)
	return v[1], facts, nil
}

// knowsSystemd reports whether an FPM knows systemd_interval, by letting it test a configuration with that word: no
// option prints what it was built with.
func knowsSystemd(path string, run func(string, ...string) (string, error)) bool {
	f, err := os.CreateTemp("", "dravit-fpm-*.conf")
	if err != nil {
		return false
	}
	defer os.Remove(f.Name())
	_, err = f.WriteString("[global]\nerror_log = /dev/null\nsystemd_interval = 0\n" +
		"[www]\nlisten = dravit.sock\npm = ondemand\npm.max_children = 1\n")
	if err != nil || f.Close() != nil {
		return false
	}
	_, err = run(path, "-n", "-t", "-p", filepath.Dir(f.Name()), "-y", f.Name())
	return err == nil
}

// cli finds the command-line program of the same version: for php-fpm8.2 in sbin, php8.2 or php in the bin folder
// beside it.
func cli(fpm, version string, run func(string, ...string) (string, error)) string {
	name := strings.Replace(filepath.Base(fpm), "-fpm", "", 1)
	dir := filepath.Dir(fpm)
	for _, d := range []string{dir, filepath.Join(filepath.Dir(dir), "bin"), "/usr/bin"} {
		for _, n := range []string{name, "php"} {
			path := filepath.Join(d, n)
			if info, err := os.Stat(path); err != nil || info.IsDir() {
				continue
			}
			if out, err := run(path, "-n", "-r", "echo PHP_VERSION;"); err == nil && strings.TrimSpace(out) == version {
				return path
			}
		}
	}
	return ""
}

// machine returns the architecture at the end of a system's name, as Go calls it.
func machine(system string) string {
	words := strings.Fields(system)
	if len(words) == 0 {
		return ""
	}
	return kind.GoArch(words[len(words)-1])
}

// Folders returns the folder of the command-line program that has the same ini and extensions as the pages, and that of
// the programs that Composer installs (getcomposer.org, "Vendor binaries").
func (php) Folders(p kind.Part) []string {
	return []string{filepath.Join(p.Conf, "bin"), filepath.Join(p.Project, "vendor", "bin")}
}

// Files returns an ini file for this part alone, the load order of its extensions, FPM's pool and the probe.
func (php) Files(p kind.Part) ([]kind.File, error) {
	var modules strings.Builder
	for _, m := range p.Modules {
		word := "extension"
		if m.Engine {
			word = "zend_extension"
		}
		fmt.Fprintf(&modules, "%s=%s\n", word, iniValue(m.File))
	}
	return []kind.File{
		{Name: "php.ini", Text: ini(p), Mode: 0o600},
		{Name: "php.d/extensions.ini", Text: modules.String(), Mode: 0o600},
		{Name: "fpm.conf", Text: pool(p), Mode: 0o600},
		{Name: "probe.php", Text: probe, Mode: 0o600},
		{Name: "stores.json", Text: stores(p), Mode: 0o600},
		{Name: "requires.json", Text: required(p), Mode: 0o600},
		{Name: "bin/php", Text: wrapper(p), Mode: 0o700},
	}, nil
}

// defaults are settings for a developer's machine.
var defaults = map[string]string{
	"display_errors": "On", "error_reporting": "E_ALL", "html_errors": "Off", "log_errors": "On", "expose_php": "Off",
	"memory_limit": "256M", "post_max_size": "64M", "upload_max_filesize": "64M",
	"variables_order": "EGPCS", "cgi.fix_pathinfo": "1",
	"opcache.validate_timestamps": "1", "opcache.revalidate_freq": "0", "date.timezone": "UTC",
}

// builtin are the values that PHP itself uses for settings that applications ask about, if no file sets them.
var builtin = map[string]string{"max_execution_time": "30", "max_input_time": "-1", "max_input_vars": "1000",
	"max_file_uploads": "20", "short_open_tag": "1", "allow_url_fopen": "1", "allow_url_include": "0",
	"file_uploads": "1", "session.auto_start": "0", "output_buffering": "0", "zlib.output_compression": "0",
	"realpath_cache_size": "4096K"}

// known returns the values of settings if the stack file sets none.
func known() map[string]string {
	all := maps.Clone(builtin)
	maps.Copy(all, defaults)
	return all
}

// ini returns, in this order, settings for a developer's machine, settings that reach the stack's parts, and the
// settings of the stack file.
func ini(p kind.Part) string {
	set := maps.Clone(defaults)
	set["session.save_path"], set["sys_temp_dir"], set["upload_tmp_dir"] = p.Keep, p.Temp, p.Temp
	for _, s := range p.Stores {
		if s.Role == kind.RoleMail { // mail() sends to the stack's mail catcher
			set["sendmail_path"] = fmt.Sprintf("%s internal sendmail --to %s -t -i", shell.Quote(p.Self),
				kind.Getenv(p.Env, s.Prefix+"_HOST")+":"+kind.Getenv(p.Env, s.Prefix+"_PORT"))
		}
		if socket := kind.Getenv(p.Env, s.Prefix+"_SOCKET"); s.Kind == "mariadb" && socket != "" {
			set["mysqli.default_socket"], set["pdo_mysql.default_socket"] = socket, socket
		}
	}
	if bundle := kind.Getenv(p.Env, "SSL_CERT_FILE"); bundle != "" { // the stack's sites are trusted, too
		set["curl.cainfo"], set["openssl.cafile"] = bundle, bundle
	}
	if p.Debug != 0 {
		maps.Copy(set, debugging(p))
	}
	for name, value := range p.Want.Settings {
		set[name] = string(value)
	}
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(set)) {
		fmt.Fprintf(&b, "%s = %s\n", name, iniValue(set[name]))
	}
	return b.String()
}

// iniValue quotes a value if the ini grammar would misread it. Plain words stay unquoted: On, 256M and E_ALL mean
// something.
func iniValue(v string) string {
	if pattern.Of(`^[A-Za-z0-9_.,/:+-]*$`).MatchString(v) || pattern.Of(`^[A-Z_0-9 &|~^()]+$`).MatchString(v) {
		return v
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `$`, `\$`).Replace(v) + `"`
}

func pool(p kind.Part) string {
	return fmt.Sprintf(`[global]
daemonize = no
pid = "%s"
error_log = "%s"
%sprocess_control_timeout = %d
[www]
listen = "%s"
listen.mode = 0600
pm = ondemand
pm.max_children = 10
pm.process_idle_timeout = 30s
ping.path = %s
clear_env = no
catch_workers_output = yes
decorate_workers_output = no
%s%s`, filepath.Join(p.Temp, "fpm.pid"), p.Log, asleep(p), int(lifecycle.Grace.Seconds()), p.Socket, pingPath,
		longestPage(p), pagesLog(p))
}

// hour is how long a page may take in all, in seconds.
const hour = 3600

// longestPage makes FPM end a page that would keep one of its few processes for ever: PHP's own limit counts neither
// sleeping nor waiting for a server. A page that is debugged may stand still, and one with another limit may take that.
func longestPage(p kind.Part) string {
	limit, set := p.Want.Settings["max_execution_time"]
	seconds, err := strconv.Atoi(string(limit))
	if p.Debug != 0 || set && (err != nil || seconds == 0) {
		return ""
	}
	return fmt.Sprintf("request_terminate_timeout = %d\n", max(hour, seconds))
}

// asleep keeps FPM from waking every ten seconds to tell systemd that it lives. An FPM that was built without systemd
// refuses the line.
func asleep(p kind.Part) string {
	if p.Facts[factSystemd] == "" {
		return ""
	}
	return "systemd_interval = 0\n"
}

// pagesLog sends what pages log to the web server and FPM's log, as PHP does by default; startLog sends it elsewhere.
// Pages may still change it.
func pagesLog(p kind.Part) string {
	if startLog(p) == nil {
		return ""
	}
	return "php_value[error_log] = \"\"\n"
}

// startLog makes FPM log what PHP says while it starts, especially about extensions: otherwise that is lost.
func startLog(p kind.Part) []string {
	if _, set := p.Want.Settings["error_log"]; set {
		return nil
	}
	return []string{"-d", "error_log=" + iniValue(p.Log)}
}

const pingPath = "/.dravit/ping"

// wrapper is a command-line program with the same ini and extensions as the pages.
func wrapper(p kind.Part) string {
	return fmt.Sprintf("#!/bin/sh\nPHP_INI_SCAN_DIR=%s exec %s -c %s \"$@\"\n",
		shell.Quote(filepath.Join(p.Conf, "php.d")), shell.Quote(p.Facts[factCLI]),
		shell.Quote(filepath.Join(p.Conf, "php.ini")))
}

func (php) Command(p kind.Part) kind.Command {
	return kind.Command{
		Path: p.Program,
		Args: append(startLog(p), arguments(p)...),
		Dir:  p.Project,
		Env:  append(slices.Clone(p.Env), "PHP_INI_SCAN_DIR="+filepath.Join(p.Conf, "php.d")),
		Stop: syscall.SIGTERM, Finish: syscall.SIGQUIT,
	}
}

func (k php) Test(p kind.Part) kind.Command {
	c := k.Command(p)
	c.Args = append(arguments(p), "-t")
	return c
}

func arguments(p kind.Part) []string {
	return []string{"-F", "-O", "-c", filepath.Join(p.Conf, "php.ini"), "-y",
		filepath.Join(p.Conf, "fpm.conf"), "-p", p.Temp}
}

func (php) Ladder(p kind.Part) []kind.Rung {
	lower, shared := health.LowerRungs(p, "unix", p.Socket)
	return append(lower,
		kind.Rung{Name: kind.Greets, Ask: func(ctx context.Context) error { return ping(ctx, shared.Take) }},
		kind.Rung{Name: kind.Works, Ask: func(ctx context.Context) error { return probeFPM(ctx, p) }})
}

var (
	startupWarning = pattern.New(`PHP Warning:\s+(PHP Startup: .*)`)
	fpmError       = pattern.New(`ERROR: (.*)`)
)

func (php) LastWords(log string) string {
	for _, re := range []*regexp.Regexp{fpmError(), startupWarning()} {
		if m := re.FindStringSubmatch(log); m != nil {
			return m[1]
		}
	}
	return ""
}
