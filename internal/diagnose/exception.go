package diagnose

import (
	"net/url"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/pattern"
)

// exception is an error that ended what a program did, as its runtime writes it.
type exception struct {
	what  string // its class and message, on one line
	place string // FILE:LINE in the project's own code, relative to the project; "" if it is in none
	at    int    // the offset of what in the text
}

// A runtime's way to write an error and the frames of its stack.
type traceback struct {
	// head matches an error; its first group is what was said. In a text of several, the last counts.
	head func() *regexp.Regexp
	// frame matches a frame: its file and its line.
	frame func() *regexp.Regexp
	// before is whether the frames stand in the head, with the innermost last; else they follow it, innermost first.
	before bool
}

// tracebacks are those of Python, PHP, Ruby, Java, Go and JavaScript's engines.
var tracebacks = []traceback{
	{head: pattern.New(`Traceback \(most recent call last\):\n(?:[ \t]+[^\n]*\n)+((?:\w+\.)*\w+(?:: ?[^\n]*)?)`),
		frame: pattern.New(`File "([^"\n]+)", line (\d+)`), before: true},
	{head: pattern.New(`(?:PHP )?(?:Fatal error|Parse error|Recoverable fatal error): +(?:Uncaught )?` +
		`([^\n<]+?)(?: in /[^\n]*| in <[^\n]*|<[^\n]*|"?\n|"?$)`),
		frame: pattern.New(`(?: in |#\d+ |thrown in )(/[^\n():"<]+?\.\w+)` +
			`(?:(?::|</b> on line <b>| on line )|\()(\d+)`)},
	{head: pattern.New(`(?m)^(?:[^\n]*?:\d+:in [` + "`'" + `][^\n]*?: |[^\n]*? - )?` +
		`([^\n]+ \([A-Z]\w*(?:::\w+)*\)|[A-Z]\w*(?:::\w+)*(?:Error|` +
		`Exception)? - [^\n]+?):?(?:\n[^\n]*){0,5}?\n\s+(?:from )?[^\n]*\.rb:\d+`),
		frame: pattern.New(`((?:/[^\n():]*?|[^\s():]+)\.rb):(\d+)`)},
	{head: pattern.New(`(?m)^(?:Exception in thread "[^"]*" |Caused by: )?` +
		`((?:[a-z]\w*\.)+[A-Z]\w*(?:: [^\n]*)?)\n\s+at `),
		frame: pattern.New(`\(([\w]+\.(?:java|kt)):(\d+)\)`)},
	{head: pattern.New(`(?m)(?:^|panic serving [^\n]*?: )(panic: [^\n]+|runtime error: [^\n]+)`),
		frame: pattern.New(`\n\t(/[^\n:]+\.go):(\d+)`)},
	{head: pattern.New(`(?m)(?:^|[\s\]:>])((?:error|(?:[A-Z]\w*)?(?:Error|Exception|Rejection))(?: \[\w+\])?: [^\n]+)` +
		`(?:\n[^\n]*){0,3}?\n\s+at `),
		frame: pattern.New(`\n\s+at (?:async )?(?:[^\n(]*\()?((?:file://)?/[^\n()]+?):(\d+):\d+`)},
	// What cannot be read at all has no stack: Python, JavaScript's engines and Ruby name the line before the error.
	{head: pattern.New(`(?m)^ *File "[^"\n]+", line \d+\n(?:[ \t]+[^\n]*\n){0,3}` +
		`((?:Syntax|Indentation|Tab)Error: [^\n]*)`),
		frame: pattern.New(`File "([^"\n]+)", line (\d+)`), before: true},
	{head: pattern.New(`(?m)^(?:file://)?/[^\n]+?:\d+\n(?:[^\n]*\n){1,4}?(SyntaxError: [^\n]+)\n\s+at `),
		frame: pattern.New(`(?m)^((?:file://)?/[^\n]+?):(\d+)$`), before: true},
	{head: pattern.New(`(?m)(?:^|[\s:])(?:[^\s:]+\.rb):\d+: (syntax errors?[^\n]*)`),
		frame: pattern.New(`((?:/[^\n():]*?|[^\s():]+)\.rb):(\d+)`), before: true},
}

// libraries are folders with code that is not the project's own.
var libraries = []string{"vendor", "node_modules", "site-packages", "dist-packages", "venv", ".venv", "env", "gems",
	"bundle"}

// own returns a file of a frame relative to the project, or "" if it is none of the project's own.
func own(p kind.Part, file string) string {
	if rest, isURL := strings.CutPrefix(file, "file://"); isURL {
		file = rest
		if plain, err := url.PathUnescape(rest); err == nil {
			file = plain
		}
	}
	if !filepath.IsAbs(file) {
		if filepath.Ext(file) != ".rb" {
			return "" // of the runtime: node:internal, <frozen importlib>
		}
		file = filepath.Join(p.Project, p.Want.Folder(), file) // Ruby names a script as its command does
	}
	rel, err := filepath.Rel(p.Project, file)
	if err != nil || !filepath.IsLocal(rel) {
		return ""
	}
	for _, folder := range strings.Split(filepath.Dir(rel), string(filepath.Separator)) {
		if slices.Contains(libraries, folder) {
			return ""
		}
	}
	return rel
}

// exceptionIn finds the last error in what a part wrote that its runtime wrote with the frames of its stack.
func exceptionIn(text string, p kind.Part) (found exception, ok bool) {
	found.at = -1
	for _, t := range tracebacks {
		heads := t.head().FindAllStringSubmatchIndex(text, -1)
		if heads == nil {
			continue
		}
		m := heads[len(heads)-1]
		frames := text[m[0]:]
		if t.before {
			frames = text[m[0]:m[1]]
		}
		if m[2] < found.at {
			continue // another runtime wrote later
		}
		x := exception{what: oneLine(text[m[2]:m[3]]), at: m[2]}
		all := t.frame().FindAllStringSubmatch(frames, maxFrames)
		if t.before {
			slices.Reverse(all)
		}
		for _, f := range all {
			if file := own(p, f[1]); file != "" {
				x.place = file + ":" + f[2]
				break
			}
		}
		found, ok = x, true
	}
	return found, ok
}

// maxFrames bounds how many frames of a stack are looked at.
const maxFrames = 200

// oneLine returns a message without the line ends and tags in it, at most 300 bytes.
func oneLine(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > 300 {
		text = strings.ToValidUTF8(text[:300], "") + "..."
	}
	return text
}
