// Package directives splits the configuration of a web server into its directives, as far as a decision needs that:
// their names and words, without their meaning.
package directives

import "strings"

// Directive is a directive, or the beginning of a block or section.
type Directive struct {
	Name string   // in lower case; a section of Apache with its <
	Args []string // without their quotes
	Line int      // from 1
}

// Blocks reads the syntax of nginx: a directive ends with a semicolon, or with the brace that begins its block.
func Blocks(text string) []Directive {
	var out []Directive
	r := reader{text: text, line: 1}
	for {
		words, line, more := r.directive()
		if len(words) > 0 {
			out = append(out, Directive{strings.ToLower(words[0]), words[1:], line})
		}
		if !more {
			return out
		}
	}
}

// Lines reads the syntax of Apache: a directive ends with its line, unless that ends with a backslash.
func Lines(text string) []Directive {
	var out []Directive
	lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	for i := 0; i < len(lines); i++ {
		line, at := lines[i], i+1
		for strings.HasSuffix(line, `\`) && i+1 < len(lines) {
			i++
			line = strings.TrimSuffix(line, `\`) + lines[i]
		}
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if strings.HasPrefix(line, "<") {
			line = "< " + strings.TrimSuffix(line[1:], ">")
		}
		r := reader{text: line + ";", line: at, quotesOnly: true}
		words, _, _ := r.directive()
		if len(words) > 1 && words[0] == "<" {
			words = append([]string{"<" + words[1]}, words[2:]...)
		}
		out = append(out, Directive{strings.ToLower(words[0]), words[1:], at})
	}
	return out
}

type reader struct {
	text       string
	at, line   int
	quotesOnly bool // nothing but blanks and quotes separates words, and the end of the text a directive
}

// directive returns the words up to what ends a directive, and whether there is more text.
func (r *reader) directive() (words []string, line int, more bool) {
	var word strings.Builder
	begun := false
	end := func() {
		if begun {
			words = append(words, word.String())
			word.Reset()
			begun = false
		}
	}
	for ; r.at < len(r.text); r.at++ {
		c := r.text[r.at]
		if c == '\n' {
			r.line++
		}
		if !begun && len(words) == 0 {
			line = r.line
		}
		switch {
		case c == ' ' || c == '\t' || c == '\r' || c == '\n':
			end()
		case c == '#' && !begun && !r.quotesOnly:
			for r.at+1 < len(r.text) && r.text[r.at+1] != '\n' {
				r.at++
			}
		case (c == '"' || c == '\'') && !begun:
			begun = true
			r.quoted(c, &word)
			end()
		case (c == ';' || c == '{' && !strings.HasSuffix(word.String(), "$") || c == '}') && !r.quotesOnly,
			r.quotesOnly && r.at == len(r.text)-1:
			end()
			r.at++
			return words, line, true
		case c == '\\' && !r.quotesOnly && r.at+1 < len(r.text):
			begun = true
			r.at++
			word.WriteByte(r.text[r.at])
		default:
			begun = true
			word.WriteByte(c)
			if c == '{' || c == '$' && strings.HasPrefix(r.text[r.at:], "${") { // a variable
				for r.at+1 < len(r.text) && r.text[r.at] != '}' && r.text[r.at+1] != ';' {
					r.at++
					word.WriteByte(r.text[r.at])
				}
			}
		}
	}
	end()
	return words, line, false
}

// quoted reads a word in quotes up to the closing one.
func (r *reader) quoted(quote byte, word *strings.Builder) {
	for r.at++; r.at < len(r.text) && r.text[r.at] != quote; r.at++ {
		if r.text[r.at] == '\n' {
			r.line++
		}
		if r.text[r.at] == '\\' && r.at+1 < len(r.text) {
			r.at++
		}
		word.WriteByte(r.text[r.at])
	}
}
