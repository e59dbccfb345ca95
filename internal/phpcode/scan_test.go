package phpcode

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func names(all []Symbol) []string {
	out := []string{}
	for _, s := range all {
		out = append(out, s.Name)
	}
	return out
}

func TestScan(t *testing.T) {
	s := Scan([]byte(`<h1>mb_strlen("not code")</h1>
<?php
// curl_init() in a comment
# gd_info()
/* imagecreate() */
$a = mb_strlen("{$b["curl_init()"]} ldap_bind()");
$text = <<<TIDE
  bcadd(1, 2)
  TIDE;
$db = new PDO('mysql:host=127.0.0.1');
$x->curl_exec(); Curl::curl_close(); \iconv('a', 'b', $c);
if (function_exists('imagick_open') && extension_loaded("GD")) echo MYSQLI_ASSOC;
function gettext($x) { return getenv('TIDE_HOST'); }
class Redis { function ftp_open() { return $_ENV["TIDE_PORT"]; } }
?>
curl_version()
<?= ctype_digit($a) ?>
`))
	functions := names(s.Functions)
	for _, want := range []string{"mb_strlen", "iconv", "ctype_digit", "getenv"} {
		assert.Contains(t, functions, want)
	}
	for _, not := range []string{"curl_init", "gd_info", "imagecreate", "ldap_bind", "bcadd", "curl_exec", "curl_close",
		"curl_version", "gettext", "ftp_open"} {
		assert.NotContains(t, functions, not)
	}
	assert.Equal(t, []string{"pdo", "curl"}, names(s.Classes))
	assert.Equal(t, 10, s.Classes[0].Line)
	assert.Equal(t, []string{"MYSQLI_ASSOC"}, names(s.Constants))
	assert.Equal(t, []string{"imagick_open", "gd"}, s.Checked)
	assert.Equal(t, []string{"gettext", "redis"}, s.Defined, "a method is no function")
	assert.Equal(t, []string{"mysql"}, names(s.Databases))
	assert.Equal(t, []string{"TIDE_HOST", "TIDE_PORT"}, names(s.Variables))
}

// In a namespace, a class has no global meaning unless it is imported or written with a backslash; a function has.
func TestScanNamespaces(t *testing.T) {
	s := Scan([]byte(`<?php
namespace Ferry\Office;
use ZipArchive;
use Tern\Redis as Cache;
new ZipArchive; new \SoapClient(null); new Memcached(); new Cache(); mb_substr($a, 1);
class SQLite3 {}
`))
	assert.Equal(t, []string{"ziparchive", "soapclient", `tern\redis`}, names(s.Classes))
	assert.Equal(t, []string{"mb_substr"}, names(s.Functions))
	assert.Empty(t, s.Defined)
}

func TestExtensionOfAName(t *testing.T) {
	assert.Equal(t, "mbstring", OfFunction("mb_strlen"))
	assert.Equal(t, "intl", OfClass("numberformatter"))
	assert.Equal(t, "curl", OfConstant("CURLOPT_URL"))
	assert.Equal(t, "", OfFunction("strlen"))
	assert.Equal(t, "", OfFunction("#"))
}

// The lexer agrees with PHP's own about the words of a program that has everything in it.
func TestLexerAgainstPHP(t *testing.T) {
	program := "<?php\n$a = \"x {$b['y']} \\\" z\"; `ls`; $c = <<<'E'\n it's\nE;\n" +
		"foo(1.5e3, 'it''s'); a\\b\\c(); // x ?> y <?php\n" +
		"#[Attr]\nfunction f(?int $x): string { return $x?->y ?? Z::Q; }\n"
	script := `foreach (PhpToken::tokenize(stream_get_contents(STDIN)) as $t)
		if (in_array($t->id, [T_STRING, T_NAME_QUALIFIED, T_NAME_FULLY_QUALIFIED])) echo $t->text, "\n";`
	cmd := exec.Command("php", "-r", script)
	cmd.Stdin = strings.NewReader(program)
	out, err := cmd.Output()
	require.NoError(t, err, "php-cli is needed")
	l := lexer{src: []byte(program), line: 1, html: true}
	var words []string
	for x := l.next(); x.sort != end; x = l.next() {
		if x.sort == word && x.text != "function" && x.text != "return" {
			words = append(words, x.text)
		}
	}
	assert.Equal(t, strings.Fields(string(out)), words)
}

func FuzzScan(f *testing.F) {
	f.Add([]byte("<?php \"{$a[\"b\"]}\" <<<X\nX; ?> '"))
	f.Fuzz(func(_ *testing.T, src []byte) { Scan(src) })
}
