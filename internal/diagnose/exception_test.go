package diagnose

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

const ferry = "/home/ada/ferry"

// What runtimes write of an error, and where it is in the project's own code.
var tracebackTexts = map[string]struct{ text, what, place string }{
	"Python": {`10.0.0.1 - - GET /boats
Traceback (most recent call last):
  File "/usr/lib/python3/dist-packages/flask/app.py", line 1511, in wsgi_app
    response = self.full_dispatch_request()
  File "/home/ada/ferry/boats.py", line 12, in boats
    return tide(day)
  File "/home/ada/ferry/venv/lib/python3.11/site-packages/tides/__init__.py", line 3, in tide
    raise KeyError(day)
KeyError: 'monday'
127.0.0.1 - - [01/Dec/2026 23:01:00] "GET /boats HTTP/1.1" 500 -
`, "KeyError: 'monday'", "boats.py:12"},
	"Python with a package's name": {`Traceback (most recent call last):
  File "/home/ada/ferry/views.py", line 9, in index
    return list(Boat.objects.all())
django.db.utils.OperationalError: no such table: ferry_boat
`, "django.db.utils.OperationalError: no such table: ferry_boat", "views.py:9"},
	"PHP": {`NOTICE: PHP message: PHP Fatal error:  Uncaught TypeError: fare(): Argument #1 must be of type int in ` +
		`/home/ada/ferry/vendor/fares/Fare.php:4
Stack trace:
#0 /home/ada/ferry/src/Booking.php(33): Fares\Fare::fare()
#1 /home/ada/ferry/public/index.php(9): Ferry\Booking->total()
#2 {main}
  thrown in /home/ada/ferry/vendor/fares/Fare.php on line 4
`, "TypeError: fare(): Argument #1 must be of type int", "src/Booking.php:33"},
	"PHP, a parse error": {`PHP Parse error:  syntax error, unexpected token "}" in ` +
		`/home/ada/ferry/src/a.php on line 7`,
		`syntax error, unexpected token "}"`, "src/a.php:7"},
	"PHP on a page": {"<br />\n<b>Fatal error</b>:  Uncaught Error: x", "", ""},
	"Node.js": {`TypeError: Cannot read properties of undefined (reading 'seats')
    at list (/home/ada/ferry/node_modules/boats/index.js:2:3)
    at /home/ada/ferry/routes/boats.js:14:22
    at Layer.handle (node:internal/x:1:1)
`, "TypeError: Cannot read properties of undefined (reading 'seats')", "routes/boats.js:14"},
	"Node.js, after a wait": {`TypeError: fetch failed
    at node:internal/deps/undici/undici:14976:13
    at process.processTicksAndRejections (node:internal/process/task_queues:95:5)
    at async /home/ada/ferry/routes/tides.js:10:21
`, "TypeError: fetch failed", "routes/tides.js:10"},
	"Node.js, of a database's client": {`error: syntax error at or near "SELEC"
    at /home/ada/ferry/node_modules/pg-pool/index.js:45:11
    at async boats (/home/ada/ferry/boats.js:3:9)
`, `error: syntax error at or near "SELEC"`, "boats.js:3"},
	"Node.js, a module": {"[boats] Error: no tides\n    at file:///home/ada/ferry/tide.mjs:3:9\n", "Error: no tides",
		"tide.mjs:3"},
	"Ruby": {`/home/ada/ferry/app.rb:12:in 'block': undefined method 'name' for nil (NoMethodError)
	from /usr/lib/ruby/gems/3.1.0/gems/sinatra/base.rb:1:in 'call'
`, "undefined method 'name' for nil (NoMethodError)", "app.rb:12"},
	"Sinatra": {"2026-12-01 23:00:00 - NameError - undefined local variable or method 'tide':\n" +
		"\t/home/ada/ferry/app.rb:5:in 'block in <main>'\n", "NameError - undefined local variable or method 'tide'",
		"app.rb:5"},
	"Sinatra, with the code": {"2026-12-01 23:00:00 - NoMethodError - undefined method `name' for nil:NilClass\n\n" +
		"get('/nil') { [].first.name }\n                      ^^^^^:\n\tapp.rb:13:in `block in <main>'\n" +
		"\t/usr/lib/ruby/sinatra/base.rb:1696:in `call'\n", "NoMethodError - undefined method `name' for nil:NilClass",
		"app.rb:13"},
	"Ruby, of a database's client": {"2026-12-01 23:00:00 - PG::SyntaxError - ERROR:  syntax error at or near \"X\"\n" +
		"LINE 1: X\n        ^\n:\n\tapp.rb:23:in `exec'\n", `PG::SyntaxError - ERROR: syntax error at or near "X"`,
		"app.rb:23"},
	"Java": {"java.lang.IllegalStateException: no berth\n\tat sea.Pier.dock(Pier.java:12)\n", "java.lang." +
		"IllegalStateException: no berth", ""},
	"Go": {"http: panic serving 127.0.0.1:5: runtime error: index out of range [3] with length 2\ngoroutine 7 " +
		"[running]:\nmain.boats()\n\t/home/ada/ferry/main.go:21 +0x1d\n",
		"runtime error: index out of range [3] with length 2", "main.go:21"},
	"a script that Python cannot read": {`  File "/home/ada/ferry/tide.py", line 3
    def low(
           ^
SyntaxError: '(' was never closed
`, "SyntaxError: '(' was never closed", "tide.py:3"},
	"a module that Python cannot read": {`Traceback (most recent call last):
  File "/home/ada/ferry/app.py", line 1, in <module>
    import tide
  File "/home/ada/ferry/tide.py", line 3
    x = = 2
        ^
SyntaxError: invalid syntax
`, "SyntaxError: invalid syntax", "tide.py:3"},
	"a script that Node.js cannot read": {`/home/ada/ferry/tide.js:3



SyntaxError: Unexpected end of input
    at wrapSafe (node:internal/modules/cjs/loader:1464:18)
    at Module.require (node:internal/modules/cjs/loader:1289:19)
    at Object.<anonymous> (/home/ada/ferry/app.js:1:1)
`, "SyntaxError: Unexpected end of input", "tide.js:3"},
	"a module that Node.js cannot read": {`file:///home/ada/ferry/tide.mjs:2
let = = 3
^^^

SyntaxError: Unexpected strict mode reserved word
    at compileSourceTextModule (node:internal/modules/esm/utils:346:16)
`, "SyntaxError: Unexpected strict mode reserved word", "tide.mjs:2"},
	"a script that Ruby cannot read": {"app.rb:3: syntax error, unexpected end-of-input, expecting ')'\n",
		"syntax error, unexpected end-of-input, expecting ')'", "app.rb:3"},
	"the last one counts": {`Error: fog
    at /home/ada/ferry/a.js:1:1
Error: storm
    at /home/ada/ferry/b.js:2:2
`, "Error: storm", "b.js:2"},
	"nothing":                 {"GET /boats 200\nWarning: it rains\nno Error at all\n", "", ""},
	"a word of Python's logs": {"ValueError: it was handled\n", "", ""},
}

func TestExceptions(t *testing.T) {
	for name, c := range tracebackTexts {
		x, ok := exceptionIn(c.text, kind.Part{Project: ferry})
		assert.Equal(t, c.what != "", ok, "%s: %+v", name, x)
		assert.Equal(t, c.what, x.what, name)
		assert.Equal(t, c.place, x.place, name)
	}
}

// Ruby names a script as its command does, which may be in a folder of the project.
func TestExceptionInAFolder(t *testing.T) {
	x, ok := exceptionIn("app.rb:3: syntax error, unexpected end-of-input\n",
		kind.Part{Project: ferry, Want: stackfile.PartConfig{Command: "cd api && ruby app.rb"}})
	assert.True(t, ok)
	assert.Equal(t, "api/app.rb:3", x.place)
}
