package directives

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestBlocks(t *testing.T) {
	text := `# listen 1;
Listen 0.0.0.0:9999;location ~ "^/a;(.*)$" { alias '/etc/'; root ${x}/y; }
lis\ten 80
  default_server ; if ($a = '}') { return 403; }
rewrite ^/x{2} /y;
last`
	assert.Equal(t, []Directive{
		{"listen", []string{"0.0.0.0:9999"}, 2},
		{"location", []string{"~", "^/a;(.*)$"}, 2},
		{"alias", []string{"/etc/"}, 2},
		{"root", []string{"${x}/y"}, 2},
		{"listen", []string{"80", "default_server"}, 3},
		{"if", []string{"($a", "=", "}", ")"}, 4},
		{"return", []string{"403"}, 4},
		{"rewrite", []string{"^/x"}, 5},
		{"2", []string{}, 5},
		{"/y", []string{}, 5},
		{"last", []string{}, 6},
	}, Blocks(text))
}

func TestLines(t *testing.T) {
	text := "# Listen 1\n  Alias \"/a b\" '/etc/' \n<Directory \"/etc\">\nLis\\\nten 80 \\\n 81\n" +
		"SetEnv x a;b{c}\n</Directory>\n" +
		"ErrorDocument 404 \"/x\\\"y\"\n"
	assert.Equal(t, []Directive{
		{"alias", []string{"/a b", "/etc/"}, 2},
		{"<directory", []string{"/etc"}, 3},
		{"listen", []string{"80", "81"}, 4},
		{"setenv", []string{"x", "a;b{c}"}, 7},
		{"</directory", []string{}, 8},
		{"errordocument", []string{"404", `/x"y`}, 9},
	}, Lines(text))
}
