// Package nginx is the kind for the nginx web server.
package nginx

import (
	"context"
	"fmt"
	"path/filepath"
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
func New() kind.Kind { return nginx{} }

type nginx struct{ kind.Defaults }

var _ kind.Kind = nginx{}

var traits = sync.OnceValue(func() *kind.Traits {
	return &kind.Traits{
		Name:     "nginx",
		Role:     kind.RoleWeb,
		Programs: []string{"nginx"},
		System: map[string]string{"apt-get": "nginx", "dnf": "nginx", "pacman": "nginx", "zypper": "nginx",
			"apk": "nginx", "brew": "nginx"},
		Packages: kind.Packages{Servers: []string{"nginx-light", "nginx"}, Program: "usr/sbin/nginx"},
		Includes: includes,
		Reload:   syscall.SIGHUP,
		Symptoms: symptoms(),
	}
})

func (nginx) Traits() *kind.Traits { return traits() }

func (nginx) Needs(stackfile.PartConfig) kind.Needs { return kind.Needs{Socket: true} }

func (nginx) Inspect(_ context.Context, path string,
	run func(string, ...string) (string, error)) (string, map[string]string, error) {
	out, err := run(path, "-v") // nginx version: nginx/1.22.1
	_, v, ok := strings.Cut(out, "nginx/")
	if err != nil || !ok {
		return "", nil, fmt.Errorf("no version in %q: %w", out, err)
	}
	return strings.Fields(v)[0], nil, nil
}

// Files returns a configuration that includes no file of the system. The client's host, port and address come from the
// gateway, which alone can reach the socket.
func (nginx) Files(p kind.Part) ([]kind.File, error) {
	var b strings.Builder
	temp := func(name string) string { return quote(filepath.Join(p.Temp, name)) }
	fmt.Fprintf(&b, `daemon off;
worker_processes 1;
pid %s;
error_log stderr;
events { worker_connections 512; }
http {
  access_log off;
  server_tokens off;
  absolute_redirect off;
  client_body_temp_path %s;
  proxy_temp_path %s;
  fastcgi_temp_path %s;
  uwsgi_temp_path %s;
  scgi_temp_path %s;
  client_max_body_size %s;
  map $http_x_forwarded_proto $visitor_https { default ""; https on; }
  map $http_dravit_visited $visitor_host { default $http_dravit_visited; "" $http_host; }
  map $http_upgrade $connection_upgrade { default upgrade; "" ""; }
  types {
`, temp("nginx.pid"), temp("body"), temp("proxy"), temp("fastcgi"), temp("uwsgi"), temp("scgi"), bodyLimit)
	for _, t := range webrules.MIMETypes {
		fmt.Fprintf(&b, "    %s;\n", t)
	}
	b.WriteString("  }\n  default_type application/octet-stream;\n  charset utf-8;\n")
	fmt.Fprintf(&b, "  server {\n    listen %s default_server;\n    return 404;\n  }\n", quote("unix:"+p.Socket))
	for _, s := range p.Sites {
		site(&b, p, s)
	}
	if strings.Contains(b.String(), dollar) { // some builds lack the module of geo
		b.WriteString("  geo $dollar { default \"$\"; }\n")
	}
	b.WriteString("}\n")
	return []kind.File{{Name: "nginx.conf", Text: b.String(), Mode: 0o600}}, nil
}

// bodyLimit is far above the runtime's own limit, which is the one that a developer sets.
const bodyLimit = "2g"

func site(b *strings.Builder, p kind.Part, s kind.VirtualHost) {
	names := quote(s.Host)
	for _, alias := range s.Aliases {
		names += " " + quote(alias)
	}
	fmt.Fprintf(b, "  server {\n    listen %s;\n    server_name %s;\n", quote("unix:"+p.Socket), names)
	if s.Include != "" {
		fmt.Fprintf(b, "    include %s;\n", quote(pattern.Literal(s.Include)))
	}
	if s.Proxy != "" {
		fmt.Fprintf(b, `    location / {
      proxy_pass http://%s;
      proxy_http_version 1.1;
      proxy_set_header Host $visitor_host;
      proxy_set_header Dravit-Visited "";
      proxy_set_header X-Forwarded-Port "";
      proxy_set_header Upgrade $http_upgrade;
      proxy_set_header Connection $connection_upgrade;
      proxy_buffering off;
      proxy_request_buffering off;
      proxy_read_timeout 1h;
    }
  }
`, s.Proxy)
		return
	}
	index := ""
	if s.FPM != "" {
		index = "index.php "
	}
	fmt.Fprintf(b, `    root %[1]s;
    index %[2]sindex.html;
    add_header Cache-Control no-cache;
    location ^~ %[3]s {
      location ~ /\.well-known/(.*/)?\. { return 404; }
      location ~ %[4]s { return 404; }
      location ~ %[5]s { return 404; }
      try_files $uri =404;
    }
    location ~ (^|/)\. { return 404; }
    location ~ %[4]s { return 404; }
`, quote(s.Root), index, webrules.WellKnown, webrules.SecretPattern, webrules.ScriptPattern)
	if s.FPM == "" { // no PHP part: do not serve PHP source
		fmt.Fprintf(b, "    location ~ %s { return 404; }\n    location / { try_files $uri $uri/ =404; }\n  }\n",
			webrules.ScriptPattern)
		return
	}
	fmt.Fprintf(b, `    location / { try_files $uri $uri/ /index.php$is_args$args; }
    location = %s {
      fastcgi_pass %s;
      fastcgi_param SCRIPT_FILENAME %s;
      fastcgi_param SCRIPT_NAME %s;
%s    }
    location ~ \.php(/|$) {
      fastcgi_split_path_info ^(.+?\.php)(/.*)$;
      set $rest $fastcgi_path_info;
      try_files $fastcgi_script_name /index.php$is_args$args;
      fastcgi_pass %s;
      fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;
      fastcgi_param SCRIPT_NAME $fastcgi_script_name;
      fastcgi_param PATH_INFO $rest;
%s    }
    location ~ %s { return 404; }
  }
`, kind.ProbePath, quote("unix:"+s.FPM), quote(s.Probe), kind.ProbePath, params,
		quote("unix:"+s.FPM), params, webrules.ScriptPattern)
}

// params are the CGI variables (RFC 3875) as the client sees them, not as the socket behind the gateway does.
const params = `      fastcgi_param GATEWAY_INTERFACE CGI/1.1;
      fastcgi_param SERVER_SOFTWARE nginx/$nginx_version;
      fastcgi_param QUERY_STRING $query_string;
      fastcgi_param REQUEST_METHOD $request_method;
      fastcgi_param CONTENT_TYPE $content_type;
      fastcgi_param CONTENT_LENGTH $content_length;
      fastcgi_param REQUEST_URI $request_uri;
      fastcgi_param DOCUMENT_URI $document_uri;
      fastcgi_param DOCUMENT_ROOT $document_root;
      fastcgi_param SERVER_PROTOCOL $server_protocol;
      fastcgi_param REQUEST_SCHEME $http_x_forwarded_proto;
      fastcgi_param HTTPS $visitor_https if_not_empty;
      fastcgi_param REMOTE_ADDR $http_x_forwarded_for;
      fastcgi_param SERVER_ADDR 127.0.0.1;
      fastcgi_param SERVER_NAME $host;
      fastcgi_param SERVER_PORT $http_x_forwarded_port;
      fastcgi_param HTTP_HOST $visitor_host;
      fastcgi_param HTTP_DRAVIT_VISITED "" if_not_empty;
      fastcgi_param HTTP_X_FORWARDED_FOR "" if_not_empty;
      fastcgi_param HTTP_X_FORWARDED_HOST "" if_not_empty;
      fastcgi_param HTTP_X_FORWARDED_PROTO "" if_not_empty;
      fastcgi_param HTTP_X_FORWARDED_PORT "" if_not_empty;
      fastcgi_request_buffering off;
      fastcgi_param REDIRECT_STATUS 200;
      fastcgi_read_timeout 1h;
      fastcgi_buffer_size 32k;
      fastcgi_buffers 16 32k;
`

// quote quotes a text for nginx. A dollar begins a variable and cannot be escaped, so a variable that holds a dollar
// replaces it.
func quote(text string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `$`, dollar).Replace(text) + `"`
}

const dollar = "${dollar}"

func (nginx) Command(p kind.Part) kind.Command {
	args := []string{"-p", p.Temp + "/", "-c", filepath.Join(p.Conf, "nginx.conf")}
	if version.Compare(p.Version, "1.19.5") >= 0 { // an older one warns that it may not open the system's log
		args = append(args, "-e", "stderr")
	}
	return kind.Command{
		Path:   p.Program,
		Args:   args,
		Dir:    p.Project,
		Env:    p.Env,
		Stop:   syscall.SIGTERM,
		Finish: syscall.SIGQUIT,
	}
}

func (n nginx) Test(p kind.Part) kind.Command {
	c := n.Command(p)
	c.Args = append(c.Args, "-t", "-q")
	return c
}

func (nginx) Ladder(p kind.Part) []kind.Rung {
	return health.HTTP(p, "unix", p.Socket)
}

var emerg = pattern.New(`\[emerg\] (?:\d+#\d+: )?(.*)`)

func (nginx) LastWords(log string) string {
	m := emerg().FindAllStringSubmatch(log, -1)
	if m == nil {
		return ""
	}
	return m[len(m)-1][1]
}

// symptoms match what the server writes when something is wrong.
func symptoms() []kind.Symptom {
	return []kind.Symptom{
		kind.When(cause.DirectiveRefused,
			pattern.New(`\[emerg\][^\n]*?((?:unknown directive|invalid|unexpected|`+
				`directive)[^\n]*? in (?:\S| )+?:\d+)`),
			"nginx does not accept a directive: $1", "correct the file that the site includes"),
		kind.When(cause.FolderUnreadable, pattern.New(`(?:(?:open|stat|opendir|realpath)\(\) )?"([^"\n]+)" (?:failed|`+
			`is forbidden) \(13: Permission denied\)`), "the web server may not read $1",
			"chmod u+rX it and the folders above, or chown them to your account"),
		kind.When(cause.UploadLimit, pattern.New(`client intended to send too large body: (\d+) bytes`),
			"an upload is larger than nginx accepts ($1 bytes)",
			"client_max_body_size in a file that the site includes"),
		kind.When(cause.TooManyOpenFiles, pattern.New(`(24: `+kind.TooManyFiles+`)`), "the process has as many files "+
			"open as it may", kind.MoreFiles),
		kind.When(cause.DiskFull, pattern.New(`(28: No space left on device)`),
			"there is no free space for its temporary files",
			"free some space (df -h, df -i)"),
	}
}
