// Package setting compares the values of a program's settings with what is demanded.
package setting

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"dravit/internal/pattern"
)

var wanted = pattern.New(`^(>=|<=|>|<|=)?\s*(\S(?:.*\S)?)$`)

// Want is one demand: ">= 128M", "on", "utf8mb4". Without an operator, the value must be equal.
type Want struct{ Op, Value string }

// Parse reads a demand. With < or >, its value must be a number, with K, M, G or T for powers of 1024.
func Parse(text string) (Want, error) {
	m := wanted().FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return Want{}, fmt.Errorf("%q is no value, nor >=, <=, > or < with one", text)
	}
	w := Want{m[1], m[2]}
	if w.Op == "" {
		w.Op = "="
	}
	if _, ok := number(w.Value); w.Op != "=" && !ok {
		return Want{}, fmt.Errorf("%q does not compare with a number", text)
	}
	return w, nil
}

// endless are settings for which 0 means no limit; -1 means that for all.
var endless = []string{"max_execution_time", "max_input_time", "default_socket_timeout"}

// Meets reports whether a setting's value meets the demand. It compares values as PHP and databases read them: 128M is
// 134217728, on is 1.
func (w Want) Meets(name, value string) bool {
	value = strings.TrimSpace(value)
	a, isNumber := number(value)
	if isNumber && (a == -1 || a == 0 && slices.Contains(endless, name)) {
		if b, _ := number(w.Value); b != a {
			return w.Op == ">=" || w.Op == ">"
		}
	}
	b, both := number(w.Value)
	switch {
	case w.Op == "=" && isNumber && both:
		return a == b
	case w.Op == "=":
		return word(value) == word(w.Value)
	case !isNumber:
		return false
	}
	return map[string]bool{">=": a >= b, "<=": a <= b, ">": a > b, "<": a < b}[w.Op]
}

func word(text string) string {
	switch text = strings.ToLower(text); text {
	case "on", "yes", "true", "1":
		return "on"
	case "off", "no", "false", "0", "":
		return "off"
	}
	return text
}

// number parses 128M and the like.
func number(text string) (float64, bool) {
	text = strings.ToUpper(strings.TrimSpace(text))
	for _, unit := range []string{"KB", "MB", "GB", "TB"} {
		text = strings.Replace(text, unit, unit[:1], 1)
	}
	scale := 1.0
	if i := len(text) - 1; i > 0 {
		if at := strings.IndexByte("KMGT", text[i]); at >= 0 {
			scale, text = float64(int64(1)<<(10*(at+1))), text[:i]
		}
	}
	n, err := strconv.ParseFloat(text, 64)
	return n * scale, err == nil
}
