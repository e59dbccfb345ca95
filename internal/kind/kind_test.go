package kind

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestStores(t *testing.T) {
	for role, want := range map[Role]bool{RoleDatabase: true, RoleCache: true, RoleMail: true, "queue": true,
		RoleWeb: false, RoleRuntime: false, RoleApp: false} {
		assert.Equal(t, want, role.Store(), role)
	}
}

func TestGetenv(t *testing.T) {
	assert.Equal(t, "2", Getenv([]string{"A=1", "AB=3", "A=2"}, "A"), "the last counts")
	assert.Empty(t, Getenv([]string{"AB=3"}, "A"))
}
