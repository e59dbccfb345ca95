package all

import (
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// What a kind's traits promise, its groups of behaviour hold.
func TestTraitsAgreeWithBehaviour(t *testing.T) {
	names := map[string]bool{}
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	for _, k := range Kinds() {
		traits := k.Traits()
		t.Run(traits.Name, func(t *testing.T) {
			assert.False(t, names[traits.Name], "another kind has this name")
			names[traits.Name] = true
			_, store := k.(kind.Store)
			_, runtime := k.(kind.Runtime)
			assert.Equal(t, traits.Role.Store(), store, "a store keeps something for others")
			assert.Equal(t, k, Kinds().Of(traits.Name))
			assert.Same(t, traits, k.Traits(), "traits are made once")
			if traits.Role == kind.RoleRuntime || traits.Extensions || traits.Debugger != "" {
				assert.True(t, runtime, "extensions are asked of runtimes")
			}
			if traits.Accounts || traits.HeadStart || traits.Clients != nil {
				assert.True(t, store, "they are traits of stores")
			}
			if traits.Accounts {
				assert.True(t, traits.Databases, "a user is made for the part's database")
			}
			if traits.Includes != nil {
				assert.Equal(t, kind.RoleWeb, traits.Role)
			}
			if traits.Serve != nil && k.Needs(stackfile.PartConfig{}).Port {
				_, err := net.Listen("tcp", taken.Addr().String())
				require.Error(t, err)
				means, _ := kind.Explain(traits.Symptoms, err.Error()+"\n", "x")
				assert.Contains(t, means, "the port was taken", "a start takes another port then")
			}
			assert.False(t, traits.Serve != nil && traits.Programs != nil,
				"the server is Dravit's own or another program")
			if _, files := k.(kind.PageMaker); files {
				assert.Equal(t, kind.RoleRuntime, traits.Role, "gateway and web server reach its probe over FastCGI")
			}
			if store && k.Needs(stackfile.PartConfig{}).Data && len(traits.Programs) > 0 {
				assert.NotNil(t, traits.Clients, "a diagnosis tells by it which store an application speaks of")
			}
		})
	}
	assert.Equal(t, &kind.Traits{}, Kinds().TraitsOf("a kind of tomorrow"))
}
