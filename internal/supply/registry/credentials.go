package registry

import (
	"encoding/base64"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"dravit/internal/pattern"
)

var (
	// credential is a line of a .npmrc that says how to log in below an address (npm, "npmrc: auth related").
	credential = pattern.New(`(?m)^\s*(//[^\s=]+/):(_authToken|_auth|username|_password)\s*=\s*["']?([^"'\s]+)`)
	// variable stands for one of the environment there.
	variable = pattern.New(`\$\{(\w+)\}`)
)

// Credentials returns what the user's own .npmrc says of logging in to registries: for an address the value of the
// header Authorization, or "".
func Credentials(userHome string, getenv func(string) string) func(address string) string {
	text, err := os.ReadFile(filepath.Join(userHome, ".npmrc"))
	if err != nil {
		return func(string) string { return "" }
	}
	below := map[string]map[string]string{}
	for _, m := range credential().FindAllStringSubmatch(string(text), -1) {
		if below[m[1]] == nil {
			below[m[1]] = map[string]string{}
		}
		below[m[1]][m[2]] = variable().ReplaceAllStringFunc(m[3], func(v string) string {
			return getenv(v[2 : len(v)-1])
		})
	}
	return func(address string) string {
		u, err := url.Parse(address)
		if err != nil {
			return ""
		}
		best := ""
		for prefix := range below {
			if strings.HasPrefix("//"+u.Host+u.EscapedPath()+"/", prefix) && len(prefix) > len(best) {
				best = prefix
			}
		}
		return authorization(below[best])
	}
}

// authorization returns the value of the header for what a .npmrc says, or "" if it says too little.
func authorization(said map[string]string) string {
	password, err := base64.StdEncoding.DecodeString(said["_password"])
	switch {
	case said["_authToken"] != "":
		return "Bearer " + said["_authToken"]
	case said["_auth"] != "":
		return "Basic " + said["_auth"]
	case said["username"] != "" && said["_password"] != "" && err == nil:
		return "Basic " + base64.StdEncoding.EncodeToString([]byte(said["username"]+":"+string(password)))
	}
	return ""
}
