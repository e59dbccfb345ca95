// Package apache is the kind for the Apache HTTP Server, with its event MPM, in front of PHP's FPM and of parts with a
// server of their own.
package apache

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"

	"dravit/internal/cause"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
	"dravit/internal/version"
	"dravit/internal/webrules"
)

// New returns the kind.
func New() kind.Kind { return apache{} }

type apache struct{ kind.Defaults }

var _ kind.Kind = apache{}

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Name:     "apache",
		Role:     kind.RoleWeb,
		Programs: []string{"apache2", "httpd", "httpd-event", "httpd-worker"},
		System: map[string]string{"apt-get": "apache2", "dnf": "httpd", "pacman": "apache", "zypper": "apache2",
			"apk": "apache2 apache2-proxy", "brew": "httpd"},
		Signs:    kind.Signs{Title: "Apache", Rules: ".htaccess", Only: only},
		Packages: kind.Packages{Servers: []string{"apache2-bin"}, Program: "usr/sbin/apache2"},
		Includes: includes,
		Reload:   syscall.SIGUSR1, // a graceful restart, in which requests finish as they began
		Symptoms: symptoms(),
	}
})

func (apache) Traits() *kind.Traits { return traits() }

// Needs a port: Apache listens on no Unix socket.
func (apache) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{Port: true, PortBase: 18080} }

const (
	factModules = "modules" // the folder of the module files
	factBuiltin = "built_in"
	factMPM     = "mpm" // the processing module that is built in: event, worker or prefork
)

// modules are loaded in this order, those that the program has not built in.
var modules = []string{"mpm_event", "unixd", "authn_core", "authz_core", "authz_host", "authz_user", "authn_file",
	"auth_basic", "access_compat", "alias", "dir", "mime", "env", "setenvif", "headers",
	"expires", "deflate", "filter", "rewrite", "proxy", "proxy_http", "proxy_fcgi", "proxy_wstunnel"}

// optional modules are ones that a project's .htaccess may ask for; the rest is needed.
var optional = []string{"access_compat", "authn_file", "auth_basic", "authz_user", "expires", "deflate", "filter",
	"proxy_wstunnel", "authz_host", "authn_core", "unixd"}

func (apache) Inspect(_ context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	out, err := run(path, "-v") // Server version: Apache/2.4.71 (Debian)
	m := pattern.Of(`Apache/(\d\S*)`).FindStringSubmatch(out)
	if err != nil || m == nil {
		return "", nil, fmt.Errorf("no version in %q: %w", out, err)
	}
	resolved, err := filepath.EvalSymlinks(path)
	if err != nil {
		return "", nil, err
	}
	facts := map[string]string{factModules: ""}
	if out, err := run(path, "-l"); err == nil { // Compiled in modules: core.c mod_so.c
		var names []string
		for _, m := range pattern.Of(`(?m)^\s+(?:mod_)?(\w+)\.c$`).FindAllStringSubmatch(out, -1) {
			names = append(names, m[1])
		}
		facts[factBuiltin] = strings.Join(names, " ")
	}
	// The answer ends with an error where the module would be loaded by a configuration.
	settings, _ := run(path, "-V", "-f", os.DevNull)
	if m := pattern.Of(`(?m)^Server MPM:[ \t]+(event|worker|prefork)\b`).FindStringSubmatch(settings); m != nil {
		facts[factMPM] = m[1]
	}
	facts[factModules] = moduleFolder(resolved)
	return m[1], facts, nil
}

// moduleFolder returns the folder with the module files of a program, or "". Systems disagree about its name: it is
// found by its shape and by what is in it.
func moduleFolder(program string) string {
	base := pattern.Literal(filepath.Dir(filepath.Dir(program)))
	var found []string
	for _, shape := range []string{"lib*/apache2*/modules", "lib*/httpd*/modules", "modules", "lib*/apache2*",
		"lib*/httpd*"} {
		files, _ := filepath.Glob(filepath.Join(base, shape, "mod_proxy_fcgi.so"))
		for _, file := range files {
			found = append(found, filepath.Dir(file))
		}
	}
	// A system with a folder for each processing module has a program for each, too: httpd-event and apache2-event.
	if _, of, ok := strings.Cut(filepath.Base(program), "-"); ok {
		for _, dir := range found {
			if strings.HasSuffix(dir, "-"+of) {
				return dir
			}
		}
	}
	if found == nil {
		return ""
	}
	return found[0]
}

func (apache) Fit(_ stackfile.PartConfig, p kind.Program) string {
	if p.Facts[factModules] == "" && !slices.Contains(strings.Fields(p.Facts[factBuiltin]), "proxy_fcgi") {
		return "its modules (mod_proxy_fcgi) are not found beside it"
	}
	return ""
}

// Files returns a configuration that includes no file of the system. The client's host, port and address come from the
// gateway.
func (apache) Files(p kind.Part) ([]kind.File, error) {
	var b strings.Builder
	fmt.Fprintf(&b,
		"ServerRoot %s\nDefaultRuntimeDir %s\nPidFile %s\nMutex %s default\nListen %s:%d\nServerName localhost\n",
		quote(p.Conf), quote(p.Temp), quote(filepath.Join(p.Temp, "apache.pid")),
		quote("file:"+p.Temp), kind.Host, p.Port)
	for _, name := range modules {
		file := filepath.Join(p.Facts[factModules], "mod_"+name+".so")
		if slices.Contains(strings.Fields(p.Facts[factBuiltin]), name) ||
			name == "mpm_event" && p.Facts[factMPM] != "" {
			continue
		}
		if _, err := os.Stat(file); err != nil && slices.Contains(optional, name) {
			continue
		}
		fmt.Fprintf(&b, "LoadModule %s_module %s\n", name, quote(file))
	}
	b.WriteString(`ErrorLog /dev/null
LogLevel warn
ServerTokens Prod
ServerSignature Off
TraceEnable Off
`)
	b.WriteString(workers(p))
	b.WriteString(`KeepAlive On
EnableSendfile On
LimitRequestBody 2147483647
AllowEncodedSlashes NoDecode
AcceptPathInfo Default
ProxyTimeout 3600
TypesConfig /dev/null
AddDefaultCharset UTF-8
RequestHeader set Host "expr=%{HTTP:Dravit-Visited}" "expr=-n %{HTTP:Dravit-Visited}"
RequestHeader unset Dravit-Visited
`)
	for _, t := range webrules.MIMETypes {
		fmt.Fprintf(&b, "AddType %s\n", t)
	}
	b.WriteString(`<Directory />
  Require all denied
  AllowOverride None
</Directory>
<VirtualHost *>
  ServerName nobody.invalid
  <Location />
    Require all denied
    ErrorDocument 403 "no such site"
  </Location>
</VirtualHost>
`)
	for _, s := range hosts(p.Sites) {
		site(&b, p, s)
	}
	text := strings.Replace(b.String(), "ErrorLog /dev/null", "ErrorLog "+quote(p.Log), 1)
	return []kind.File{{Name: "httpd.conf", Text: text, Mode: 0o600}}, nil
}

// workers bounds the processes and threads, in the words of the processing module.
func workers(p kind.Part) string {
	if p.Facts[factMPM] == "prefork" {
		return "StartServers 1\nMinSpareServers 1\nMaxSpareServers 10\nMaxRequestWorkers 100\n"
	}
	return "StartServers 1\nMinSpareThreads 1\nMaxSpareThreads 50\nThreadsPerChild 25\nMaxRequestWorkers 100\n"
}

// hosts returns the sites in the order in which Apache has to see them, as it takes the first that matches: first those
// with whole names, then each wildcard as a host of its own, the longest first.
func hosts(sites []kind.VirtualHost) []kind.VirtualHost {
	var whole, wild []kind.VirtualHost
	for _, s := range sites {
		own := s
		own.Aliases = nil
		for _, alias := range s.Aliases {
			if !strings.HasPrefix(alias, "*") {
				own.Aliases = append(own.Aliases, alias)
				continue
			}
			x := s
			x.Host, x.Aliases = strings.TrimPrefix(alias, "*.")+".wildcard.invalid", []string{alias}
			wild = append(wild, x)
		}
		whole = append(whole, own)
	}
	slices.SortStableFunc(wild, func(a, b kind.VirtualHost) int {
		return strings.Count(b.Host, ".") - strings.Count(a.Host, ".")
	})
	return append(whole, wild...)
}

func site(b *strings.Builder, p kind.Part, s kind.VirtualHost) {
	fmt.Fprintf(b, "<VirtualHost *>\n  ServerName %s\n", s.Host)
	for _, alias := range s.Aliases {
		fmt.Fprintf(b, "  ServerAlias %s\n", alias)
	}
	defer b.WriteString("</VirtualHost>\n")
	if s.Include != "" {
		defer fmt.Fprintf(b, "  Include %s\n", quote(pattern.Literal(s.Include)))
	}
	if s.Proxy != "" {
		upgrade := " upgrade=websocket"
		if version.Compare(p.Version, "2.4.47") < 0 { // it does not know the word, and passes no web sockets on
			upgrade = ""
		}
		fmt.Fprintf(b, "  ProxyPreserveHost On\n  ProxyAddHeaders Off\n"+
			"  ProxyPass / http://%s/ nocanon%s flushpackets=on\n", s.Proxy, upgrade)
		b.WriteString("  RequestHeader unset X-Forwarded-Port\n")
		return
	}
	fmt.Fprintf(b, `  DocumentRoot %[1]s
  Header always set Cache-Control no-cache "expr=%%{REQUEST_STATUS} -eq 200 && %%{CONTENT_TYPE} != ''"
  RewriteEngine On
  RewriteRule ^/(?!\.well-known/|\.dravit/probe$)(.*/)?\. - [R=404,L]
  RewriteRule ^/\.well-known/(.*/)?\. - [R=404,L]
  RewriteRule %[2]s - [R=404,L]
  RewriteCond %%{REQUEST_URI} !\.php(/|$)
  RewriteRule %[3]s - [R=404,L]
  RewriteCond %%{REQUEST_URI} ^/\.well-known/
  RewriteRule %[3]s - [R=404,L]
`, quote(s.Root), webrules.SecretPattern, webrules.ScriptPattern)
	index := "index.html"
	if s.FPM != "" {
		index = "index.php index.html"
	}
	// The rules are at the level of a project's .htaccess, whose own rules replace them.
	fmt.Fprintf(b, `  DirectoryIndex %s
  <Directory %s>
    Require all granted
    AllowOverride All
    Options FollowSymLinks
    RewriteEngine On
    RewriteCond %%{REQUEST_FILENAME} -d
    RewriteCond %%{REQUEST_URI} /$
    RewriteCond %%{REQUEST_FILENAME}/index.html !-f
`, index, quote(pattern.Literal(s.Root)))
	if s.FPM == "" { // no PHP part: do not serve PHP source
		fmt.Fprintf(b, "    RewriteRule ^ - [F,NS]\n  </Directory>\n  RewriteRule %s - [R=404,L]\n",
			webrules.ScriptPattern)
		return
	}
	fpm := "proxy:unix:" + s.FPM + "|fcgi://localhost/"
	fmt.Fprintf(b, `    RewriteCond %%{REQUEST_FILENAME}/index.php !-f
    RewriteRule ^ - [F,NS]
    RewriteCond %%{REQUEST_FILENAME} !-f
    RewriteCond %%{REQUEST_FILENAME} !-d
    RewriteRule ^ /index.php [L,NS]
  </Directory>
  <FilesMatch "\.php$">
    SetHandler %s
  </FilesMatch>
  Alias %s %s
  <Directory %s>
    AllowOverride None
    <Files "probe.php">
      Require all granted
    </Files>
  </Directory>
  ProxyFCGISetEnvIf "true" REMOTE_ADDR "%%{HTTP:X-Forwarded-For}"
  ProxyFCGISetEnvIf "true" SERVER_PORT "%%{HTTP:X-Forwarded-Port}"
  ProxyFCGISetEnvIf "true" REQUEST_SCHEME "%%{HTTP:X-Forwarded-Proto}"
  ProxyFCGISetEnvIf "%%{HTTP:X-Forwarded-Proto} == 'https'" HTTPS "on"
  ProxyFCGISetEnvIf "true" "!HTTP_X_FORWARDED_FOR"
  ProxyFCGISetEnvIf "true" "!HTTP_X_FORWARDED_HOST"
  ProxyFCGISetEnvIf "true" "!HTTP_X_FORWARDED_PROTO"
  ProxyFCGISetEnvIf "true" "!HTTP_X_FORWARDED_PORT"
  SetEnvIf Authorization "(.+)" HTTP_AUTHORIZATION=$1
`, quote(fpm), kind.ProbePath, quote(s.Probe), quote(pattern.Literal(filepath.Dir(s.Probe))))
}

// quote quotes a text for Apache. ${NAME} would stand for a variable and cannot be escaped, so a project's path may not
// contain it.
func quote(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(text) + `"`
}

func (apache) Command(p kind.Part) kind.Command {
	return kind.Command{
		Path:   p.Program,
		Args:   []string{"-d", p.Conf, "-f", filepath.Join(p.Conf, "httpd.conf"), "-DFOREGROUND"},
		Dir:    p.Project,
		Env:    p.Env,
		Stop:   syscall.SIGTERM,
		Finish: syscall.SIGWINCH,
	}
}

func (a apache) Test(p kind.Part) kind.Command {
	c := a.Command(p)
	c.Args = []string{"-d", p.Conf, "-f", filepath.Join(p.Conf, "httpd.conf"), "-t"}
	return c
}

func (apache) Ladder(p kind.Part) []kind.Rung {
	return health.HTTP(p, "tcp", kind.Loopback(p.Port))
}

var (
	syntax  = pattern.New(`(?s)AH00526: Syntax error on line \d+ of [^\n]*\n[^\n]+`)
	trouble = pattern.New(`(?m)^.*\b(AH\d{5}: .*)$|^(apache2|httpd): (.*)$`)
)

func (apache) LastWords(log string) string {
	for _, re := range []*regexp.Regexp{syntax(), trouble()} {
		if m := re.FindAllString(log, -1); m != nil {
			return strings.Join(strings.Fields(m[len(m)-1]), " ")
		}
	}
	return ""
}

// symptoms match what the server writes when something is wrong.
func symptoms() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.DirectiveRefused, pattern.New(`AH00526: Syntax error on (line \d+ of [^\n]*?):?\n([^\n]+)`),
			"Apache does not accept a directive, $1: $2", "correct the file that the site includes"),
		kind.When(cause.DirectiveRefused,
			pattern.New(`(\.htaccess): Invalid command '(php_(?:admin_)?(?:value|flag))'`),
			"PHP runs in its own process (FPM), which does not read $2 in a $1",
			"settings = { NAME = \"VALUE\" } for the PHP part in dravit.toml; remove the line from the $1"),
		kind.When(cause.DirectiveRefused,
			pattern.New(`([^\n]*\.htaccess: [^\n]*(?:Invalid command|not allowed here|takes)[^\n]*)`),
			"Apache does not accept a directive of a .htaccess: $1", "correct the file"),
		kind.When(cause.FolderUnreadable,
			pattern.New(`AH00529: (/[^\n]*?)/\.htaccess pcfg_openfile: unable to check htaccess file`),
			"the web server may not read $1", "chmod u+rX it and the folders above, or chown them to your account"),
		kind.When(cause.FolderUnreadable,
			pattern.New(`\(13\)Permission denied:[^\n]*?(?:access to|file permissions deny server access:|`+
				`search permissions are missing on a component of the path)[^\n]*?(/[^\n]*)`),
			"the web server may not read $1", "chmod u+rX it and the folders above, or chown them to your account"),
		kind.When(cause.PortTaken, pattern.New(`(AH00072: make_sock: could not bind[^\n]*)`), "the port was taken: $1",
			"dravit start, which uses another port unless it is pinned"),
		kind.When(cause.TooManyOpenFiles,
			pattern.New(`(\(24\)`+kind.TooManyFiles+`)`), "the process has as many files "+
				"open as it may", kind.MoreFiles),
	}
}

// only matches directives that another web server cannot replace.
var only = pattern.New(`(?im)^\s*(AuthType|AuthUserFile|Require|Deny|Allow|Order|SetEnv(?:If)?|Header|` +
	`php_(?:admin_)?(?:value|flag)|Redirect(?:Match)?|ErrorDocument|AddType|AddHandler|RewriteMap)\b|` +
	`^\s*RewriteRule\s+\S+\s+(?:[^-\s]\S*/)?([\w-]+\.(?:php|html?))`)
