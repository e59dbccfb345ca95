package debian

import (
	"cmp"
	"strings"
)

// Compare orders two versions as Debian Policy, section 5.6.12 says: by epoch, upstream version and revision, in which
// a tilde sorts before everything, even the end. It returns -1, 0 or 1.
func Compare(a, b string) int {
	ae, au, ar := split(a)
	be, bu, br := split(b)
	return cmp.Or(compareText(ae, be), compareText(au, bu), compareText(ar, br))
}

// Upstream returns a version without its epoch, its revision and what a repository added: 8.2.29 for
// "1:8.2.29-1~deb12u1", and 10.11.14 for "1:10.11.14+really-1".
func Upstream(version string) string {
	_, u, _ := split(version)
	if i := strings.IndexFunc(u, func(r rune) bool { return (r < '0' || r > '9') && r != '.' }); i > 0 {
		u = u[:i]
	}
	return strings.Trim(u, ".")
}

func split(version string) (epoch, upstream, revision string) {
	epoch, upstream = "0", version
	if e, rest, ok := strings.Cut(version, ":"); ok {
		epoch, upstream = e, rest
	}
	if i := strings.LastIndexByte(upstream, '-'); i >= 0 {
		upstream, revision = upstream[:i], upstream[i+1:]
	}
	return epoch, upstream, revision
}

// compareText compares by turns what is no digit, and numbers.
func compareText(a, b string) int {
	for a != "" || b != "" {
		var ta, tb, na, nb string
		ta, a = span(a, false)
		tb, b = span(b, false)
		if c := compareSigns(ta, tb); c != 0 {
			return c
		}
		na, a = span(a, true)
		nb, b = span(b, true)
		na, nb = strings.TrimLeft(na, "0"), strings.TrimLeft(nb, "0")
		if c := cmp.Or(cmp.Compare(len(na), len(nb)), cmp.Compare(na, nb)); c != 0 {
			return c
		}
	}
	return 0
}

// span cuts off what text begins with: digits, or what is no digit.
func span(text string, digits bool) (head, rest string) {
	i := 0
	for i < len(text) && isDigit(text[i]) == digits {
		i++
	}
	return text[:i], text[i:]
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

func compareSigns(a, b string) int {
	for i := range max(len(a), len(b)) {
		if c := cmp.Compare(weight(a, i), weight(b, i)); c != 0 {
			return c
		}
	}
	return 0
}

// weight orders what is no digit: a tilde, the end, letters, all else.
func weight(text string, i int) int {
	switch {
	case i >= len(text):
		return 0
	case text[i] == '~':
		return -1
	case text[i]|0x20 >= 'a' && text[i]|0x20 <= 'z':
		return int(text[i])
	}
	return int(text[i]) + 256
}
