package kind

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestStores(t *testing.T) {
	for role, want := range map[Role]bool{RoleDatabase: true, RoleCache: true, RoleMail: true, "queue": true, RoleWeb: false, RoleRuntime: false, RoleApp: false} {
		assert.Equal(t, want, role.Store(), role)
	}
}
