package fetch

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAddresses(t *testing.T) {
	for _, c := range []struct {
		address                  string
		secured, signed, folders bool
	}{
		{"https://ferry.example/x", true, true, false},
		{"http://ferry.example/x", false, true, false},
		{"http://127.0.0.1:4/x", true, true, false},
		{"http://[::1]/x", true, true, false},
		{"http://localhost/x", true, true, false},
		{"http://127.0.0.1.ferry.example/x", false, true, false},
		{"file:///srv/packages", false, true, true},
		{"file://ferry.example/srv", false, false, false},
		{"https:///x", false, false, false},
		{"ftp://ferry.example/x", false, false, false},
		{"/srv/packages", false, false, false},
		{"http://%zz", false, false, false},
	} {
		assert.Equal(t, c.secured, CheckAddress(c.address) == nil, c.address)
		assert.Equal(t, c.signed, checkSigned(c.address) == nil, c.address)
		assert.Equal(t, c.folders, CheckFolder(c.address) == nil, c.address)
	}
}
