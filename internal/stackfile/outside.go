package stackfile

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

// Server is a server that somebody else runs, as the key outside names it.
type Server struct {
	Scheme string // of the URL; "": the file has host:port
	Host   string // a name or an address, without brackets
	Port   int

	User, Database string // of the URL; "": it has none
}

// Address returns host:port.
func (s Server) Address() string { return net.JoinHostPort(s.Host, strconv.Itoa(s.Port)) }

// Is reports whether the URL's scheme, if there is one, belongs to a kind.
func (s Server) Is(kind string) bool {
	return slices.Contains([]string{"", kind}, s.Scheme) || kindWords[s.Scheme] == kind
}

// OutsideServer returns the server outside the stack that the part stands for, or the zero Server if Dravit runs the
// part.
func (p PartConfig) OutsideServer() Server {
	s, _ := ParseServer(p.Outside) // Read has checked it
	return s
}

// PasswordVariable returns the name of the variable of the user's environment that has the password of a part's outside
// server.
func PasswordVariable(part string) string { return "DRAVIT_PASSWORD_" + EnvPrefix(part) }

// ParseServer reads the value of the key outside: host:port, or a URL with host and port. It accepts no password.
func ParseServer(text string) (Server, error) {
	var s Server
	if text == "" {
		return s, errors.New("the address is empty")
	}
	address := text
	if strings.Contains(text, "://") {
		u, err := url.Parse(text)
		if err != nil {
			return s, errors.New("the URL cannot be read") // the error would show a password
		}
		if _, has := u.User.Password(); has {
			return s, errors.New("a password does not belong in a stack file: remove it, and dravit start asks for it")
		}
		if u.RawQuery != "" || u.Fragment != "" {
			return s, fmt.Errorf("%q has options, which Dravit does not use: remove what follows the database", text)
		}
		s.Scheme, s.User, s.Database = strings.ToLower(u.Scheme), u.User.Username(), strings.TrimPrefix(u.Path, "/")
		address = u.Host
	}
	host, port, err := net.SplitHostPort(address)
	n, portErr := strconv.Atoi(port)
	if err := cmp.Or(err, portErr); err != nil || host == "" || n < 1 || n > 65535 ||
		strings.ContainsAny(host, " /@\"'\\") {
		return Server{}, fmt.Errorf("%q is no address: write host and port, such as 127.0.0.1:3306", text)
	}
	s.Host, s.Port = host, n
	return s, nil
}

// outside checks that a part that stands for a server outside the stack can be of one of its kinds.
func (r *reader) outside(at string, p PartConfig) {
	if p.Outside == "" {
		return
	}
	server := p.OutsideServer()
	if !slices.ContainsFunc(p.Kind, server.Is) {
		r.fault(at+".outside", fmt.Sprintf("%s:// is no address of %s", server.Scheme, strings.Join(p.Kind, " or ")),
			"outside = \""+server.Address()+"\", or another kind")
	}
	if (server.User != "" || server.Database != "") && !slices.ContainsFunc(p.Kind, func(kind string) bool {
		return slices.Contains(r.words[kind].Keys, "database")
	}) {
		r.fault(at+".outside", "a part of kind "+strings.Join(p.Kind, " or ")+" has neither user nor database",
			"outside = \""+server.Address()+"\"")
	}
}
