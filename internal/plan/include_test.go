package plan_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/project"
	"dravit/internal/trouble"
)

// A file that a site includes neither listens nor names files outside the project, however it is written.
func TestIncludesStayInside(t *testing.T) {
	for _, c := range []struct{ kind, text, code string }{
		{"nginx", "listen 0.0.0.0:9999;", "reserved"},
		{"nginx", "add_header A b;LISTEN 80;", "reserved"},
		{"nginx", "\"listen\" 80;", "reserved"},
		{"nginx", "location /x { include /etc/nginx/x.conf; }", "reserved"},
		{"nginx", "location /x { alias /etc/; }", "outside"},
		{"nginx", "location /x { alias '/etc/'; }", "outside"},
		{"nginx", "location /x { root ../../..; }", "outside"},
		{"nginx", "location ~ ^/x(.*) { alias $1; }", "outside"},
		{"nginx", "set $x /etc; root $x;", "outside"},
		{"nginx", "try_files $uri /../../etc/passwd;", "outside"},
		{"nginx", "access_log /etc/x;", "outside"},
		{"nginx", "location /x { proxy_pass http://unix:/etc/x.sock:/; }", "outside"},
		{"nginx", "location /x { fastcgi_param SCRIPT_FILENAME /etc/x.php; }", "outside"},
		{"nginx", "location /x { fastcgi_param SCRIPT_FILENAME $arg_f; }", "outside"},
		{"nginx", "location = /etc { return 301 /index.php; } add_header Link /etc/x; root $document_root/a;", ""},
		{"nginx", "location ~ \\.php$ { try_files $uri /index.php =404; } client_max_body_size 1m; # listen 1;", ""},
		{"nginx", "proxy_cache_bypass $http_x; location /a { proxy_pass http://127.0.0.1:9; } rewrite ^/a /b last;",
			""},
		{"apache", "Listen 80", "reserved"},
		{"apache", "Inc\\\nlude /etc/x", "reserved"},
		{"apache", "Alias /x \"/etc/\"", "outside"},
		{"apache", "RewriteRule ^/x /etc/passwd [L]", "outside"},
		{"apache", "<Directory /etc>\nRequire all granted\n</Directory>", "outside"},
		{"apache", "<Location />\nRequire all granted\n</Location>", "reserved"},
		{"apache", "<DirectoryMatch ^/>\nRequire all granted\n</DirectoryMatch>", "reserved"},
		{"apache", "CustomLog /etc/x common", "outside"},
		{"apache", "RewriteEngine On\nRewriteRule ^/a/(.*)$ /index.php?x=$1 [L]\nHeader set X /etc", ""},
	} {
		in := machine(t, "debian", "[part.web]\nkind = \""+c.kind+"\"\n[[site]]\nname = \"quay\"\nroot = \".\"\n"+
			"include = \"a.conf\"\n")
		in.Survey.Programs = append(in.Survey.Programs, kind.Program{Kind: "apache", Version: "2.4.66",
			Path: "/usr/sbin/apache2", Facts: map[string]string{"modules": "/m"}})
		in.Project.Folders["."] = project.Folder{Exists: true, Index: "index.html"}
		in.Project.Files = []string{"a.conf"}
		in.Project.Includes = map[string]string{"a.conf": c.text}
		in.Project.Outside = map[string]string{}
		for _, path := range strings.FieldsFunc(c.text, func(r rune) bool {
			return strings.ContainsRune(" ;'\">\n",
				r)
		}) {
			if i := strings.Index(path, "/etc"); i >= 0 && !strings.Contains(path, "..") {
				path = path[i:]
			}
			if strings.HasPrefix(path, "/etc") || strings.Contains(path, "..") {
				in.Project.Outside[path] = "/etc"
			}
		}
		p := decide(in)
		var code trouble.Code
		for _, f := range p.Faults {
			require.Equal(t, "site.quay.include", f.Subject.String(), "%s %+v", c.text, f)
			code = f.Code
		}
		assert.Equal(t, c.code, string(code), "%s: %s", c.kind, c.text)
	}
}
