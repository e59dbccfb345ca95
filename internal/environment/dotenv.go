package environment

import (
	"slices"
	"strings"

	"dravit/internal/pattern"
)

// SetDotenv returns the text of a file of NAME=value lines in which each of the variables, given as NAME=value, has its
// value. A line that sets one keeps its place, its quotes, what stands before its value and the comment behind it; all
// other lines stay byte for byte. A variable that no line sets comes at the end. Line ends stay as they are.
func SetDotenv(text string, vars []string) string {
	out, set := replaceDotenv(text, vars)
	end := "\n"
	if strings.Contains(text, "\r\n") {
		end = "\r\n"
	}
	added := ""
	for _, v := range vars {
		name, value, _ := strings.Cut(v, "=")
		if !set[name] {
			added += name + "=" + quoteLike("", value) + end
		}
	}
	if added == "" {
		return out
	}
	if out != "" && !strings.HasSuffix(out, "\n") {
		out += end
	}
	if _, found := replaceDotenv(out+added, vars); len(found) < len(vars) { // it is behind a quote that nothing closed
		return added + out
	}
	return out + added
}

// replaceDotenv is SetDotenv for the variables that lines of the text set, and returns their names.
func replaceDotenv(text string, vars []string) (out string, set map[string]bool) {
	var b strings.Builder
	set = map[string]bool{}
	for rest := text; rest != ""; {
		var line dotenvLine
		line, rest = cutDotenv(rest)
		i := slices.IndexFunc(vars, func(v string) bool {
			name, _, _ := strings.Cut(v, "=")
			return line.name != "" && name == line.name
		})
		if i < 0 {
			b.WriteString(line.before + line.value + line.after)
			continue
		}
		set[line.name] = true
		_, value, _ := strings.Cut(vars[i], "=")
		b.WriteString(line.before + quoteLike(line.value, value) + line.after)
	}
	return b.String(), set
}

// dotenvLine is a line of such a file, in three pieces; a value in quotes may go over several lines. name is empty, and
// the whole line is in before, if it sets no variable.
type dotenvLine struct {
	name, before, value, after string
}

var setsVariable = pattern.New(`^[ \t]*(?:export[ \t]+)?([A-Za-z_][A-Za-z0-9_.]*)[ \t]*=[ \t]*`)

// cutDotenv cuts the first line off a text that is not empty.
func cutDotenv(text string) (line dotenvLine, rest string) {
	end := len(text)
	if i := strings.IndexByte(text, '\n'); i >= 0 {
		end = i + 1
	}
	m := setsVariable().FindStringSubmatch(text[:end])
	if m == nil {
		return dotenvLine{before: text[:end]}, text[end:]
	}
	from := len(m[0])
	to := from + quotedLength(text[from:])
	if to == from { // no quotes, or none that end
		to = from + len(strings.TrimRight(uncommented(text[from:end]), " \t\r\n"))
		if to == from { // what follows an empty value is a comment, with its blanks
			from = len(strings.TrimRight(m[0], " \t"))
			to = from
		}
	} else if i := strings.IndexByte(text[to:], '\n'); i >= 0 {
		end = to + i + 1
	} else {
		end = len(text)
	}
	return dotenvLine{m[1], text[:from], text[from:to], text[to:end]}, text[end:]
}

var lineEnds = pattern.New(`^[ \t]*(?:#[^\n]*)?\r?(?:\n|$)`)

// quotedLength returns the length of a value in quotes at the start of text, with its quotes. It is 0 if there is none,
// or if more than a comment follows it, as behind a quote that was forgotten lines above.
func quotedLength(text string) int {
	if text == "" || !strings.ContainsRune("'\"`", rune(text[0])) {
		return 0
	}
	for i := 1; i < len(text); i++ {
		switch {
		case text[i] == '\\' && text[0] == '"':
			i++
		case text[i] == text[0]:
			if lineEnds().MatchString(text[i+1:]) {
				return i + 1
			}
			return 0
		}
	}
	return 0
}

// uncommented returns a value without quotes up to the comment behind it: a # at its start or after a blank.
func uncommented(text string) string {
	for i := range text {
		if text[i] == '#' && (i == 0 || text[i-1] == ' ' || text[i-1] == '\t') {
			return text[:i]
		}
	}
	return text
}

// bare matches values that every reader of such files takes as they are, without quotes, a shell too: that would go on
// after &, and replace ~.
var bare = pattern.New(`^[A-Za-z0-9_./:@%+,?-]*$`)

// quoteLike quotes a value as the old one is quoted, as far as the value allows that.
func quoteLike(old, value string) string {
	switch {
	case strings.HasPrefix(old, `"`):
		return doubleQuote(value)
	case strings.HasPrefix(old, "`") && !strings.ContainsAny(value, "`\n"):
		return "`" + value + "`"
	case bare().MatchString(value) && !strings.HasPrefix(old, "'"):
		return value
	}
	return DotenvQuote(value)
}

// DotenvQuote quotes a value for a file of NAME=value lines: in single quotes, which every reader of such files takes
// literally. A value with a single quote or a line break in it is in double quotes, with backslashes before the
// characters that mean something there.
func DotenvQuote(value string) string {
	if !strings.ContainsAny(value, "'\n") {
		return "'" + value + "'"
	}
	return doubleQuote(value)
}

func doubleQuote(value string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`", "\n", `\n`).Replace(value) + `"`
}
