package diagnose

import (
	"net"
	"net/netip"
	"strconv"
	"strings"

	"dravit/internal/kind"
	"dravit/internal/pattern"
)

// address is where a program looked for a server, as its error says.
type address struct {
	host string // a name or an address; "": the error does not say
	port int    // 0: the error does not say
	path string // of a Unix socket, or ""
}

// String returns the address as people write it.
func (a address) String() string {
	switch {
	case a.path != "":
		return a.path
	case a.port == 0:
		return a.host
	case a.host == "":
		return "port " + strconv.Itoa(a.port)
	}
	return net.JoinHostPort(a.host, strconv.Itoa(a.port))
}

// local reports whether the address is on this machine.
func (a address) local() bool {
	ip, err := netip.ParseAddr(a.host)
	return a.path != "" || a.host == "" || a.host == "localhost" ||
		err == nil && (ip.IsLoopback() || ip.IsUnspecified())
}

// of reports whether the address is that of a part.
func (a address) of(p kind.Part) bool {
	if a.path != "" {
		return a.path == p.Socket
	}
	return a.port != 0 && a.port == p.Port && (a.local() || a.host == p.HostName())
}

// addressWords match how clients name the server that they did not reach. Their groups are host, port and path.
var addressWords = []func() clientWord{
	word(`(?:ECONNREFUSED|ETIMEDOUT|EHOSTUNREACH|ECONNRESET)\s+\[?([0-9a-fA-F.:]+?)\]?:(\d+)`, 1, 2, 0),
	word(`(?:ECONNREFUSED|ENOENT|EACCES)\s+(/[^\s'")]+)`, 0, 0, 1),
	word(`(?:ENOTFOUND|EAI_AGAIN)\s+([\w.-]+)`, 1, 0, 0),
	word(`connection to server at "([^"]+)"(?: \([^)]*\))?, port (\d+)`, 1, 2, 0),
	word(`connection to server on socket "([^"]+)"`, 0, 0, 1),
	word(`[Cc]ould not (?:translate|resolve) host(?: name)?:? "?([\w.-]+)`, 1, 0, 0),
	word(`getaddrinfo(?: for| failed for)? ([\w.-]+) failed`, 1, 0, 0),
	word(`[Cc]an't connect to (?:local )?(?:MySQL |MariaDB )?server (?:on|through socket) '([^'/:]+)(?::(\d+))?'`, 1,
		2, 0),
	word(`[Cc]an't connect to (?:local )?(?:MySQL |MariaDB )?server (?:on|through socket) '(/[^']+)'`, 0, 0, 1),
	word(`Unknown (?:MySQL |MariaDB )?server host '([^']+)'`, 1, 0, 0),
	word(`Error -?\d+ connecting to ([\w.:-]+?):(\d+)`, 1, 2, 0),
	word(`[Cc]onnection refused[^\n]*?(?:to|for) "?([\w.-]+)"?(?: port |:)(\d+)`, 1, 2, 0),
	word(`[Ff]ailed to connect to ([\w.-]+) port (\d+)`, 1, 2, 0),
	word(`Failed to open TCP connection to ([\w.-]+):(\d+)`, 1, 2, 0),
	word(`HTTPS?ConnectionPool\(host='([^']+)', port=(\d+)\)`, 1, 2, 0),
	word(`(?:tcp|ssl|tls)://\[?([\w.-]+)\]?:(\d+)`, 1, 2, 0),
	word(`dial tcp \[?([\w.:-]+?)\]?:(\d+)`, 1, 2, 0),
	word(`(?:lookup|resolve host|resolve) ([\w-]+(?:\.[\w-]+)*)\b`, 1, 0, 0),
	word(`host[ =:]+"?([\w.-]+)"?[ ,]+port[ =:]+"?(\d+)`, 1, 2, 0),
}

// clientWord is a way to name an address; the numbers are those of the groups, 0 for none.
type clientWord struct {
	find             func(text string) []string
	host, port, path int
}

func word(expression string, host, port, path int) func() clientWord {
	re := pattern.New(expression)
	return func() clientWord {
		return clientWord{func(text string) []string { return re().FindStringSubmatch(text) }, host, port, path}
	}
}

// addressIn returns the address that an error names.
func addressIn(text string) (a address, ok bool) {
	for _, known := range addressWords {
		w := known()
		m := w.find(text)
		if m == nil {
			continue
		}
		if w.host > 0 {
			a.host = strings.Trim(m[w.host], ".")
		}
		if w.port > 0 && m[w.port] != "" {
			a.port, _ = strconv.Atoi(m[w.port]) // digits
		}
		if w.path > 0 {
			a.path = m[w.path]
		}
		return a, true
	}
	return a, false
}

// urlIn returns the host and port of an address of HTTP in a text.
func urlIn(text string) (a address, ok bool) {
	m := httpURL().FindStringSubmatch(text)
	if m == nil {
		return a, false
	}
	a.host = m[1]
	a.port, _ = strconv.Atoi(m[2]) // digits, or the scheme's own port
	return a, true
}

var httpURL = pattern.New(`\bhttps?://([\w.-]+)(?::(\d{1,5}))?`)

// speaksOfAddress reports whether an error is about the address of a part.
func speaksOfAddress(x Explained, p kind.Part) bool {
	a, ok := addressIn(x.What + "\n" + strings.Join(x.Evidence, "\n"))
	return ok && a.of(p)
}
