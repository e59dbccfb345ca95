package materialise

import (
	"net"
	"os"
	"path/filepath"
	"strconv"

	"dravit/internal/home"
)

// outsideKey is the name of the password of a server outside the stack among a stack's secrets. It has the address: a
// stack file that names another server does not get the password of the first one.
func outsideKey(part, host string, port int) string {
	return "outside " + part + " " + net.JoinHostPort(host, strconv.Itoa(port))
}

// OutsidePasswordKnown reports whether the user has given the password of a server outside the stack.
func OutsidePasswordKnown(h *home.Home, id, part, host string, port int) (bool, error) {
	secrets := map[string]string{}
	err := home.ReadJSON(h.Stack(id, "secrets.json"), &secrets)
	_, known := secrets[outsideKey(part, host, port)]
	return known, err
}

// SetOutsidePassword keeps the password of a server outside the stack in a file of mode 0600. An empty one says that
// the server needs none.
func SetOutsidePassword(h *home.Home, id, part, host string, port int, password string) error {
	file := h.Stack(id, "secrets.json")
	secrets := map[string]string{}
	if err := home.ReadJSON(file, &secrets); err != nil {
		return err
	}
	key := outsideKey(part, host, port)
	if was, known := secrets[key]; known && was == password {
		return nil
	}
	secrets[key] = password
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return home.WriteJSON(file, secrets)
}
