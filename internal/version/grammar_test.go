package version

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each manifest's own grammar, with versions that serve and versions that do not.
func TestGrammars(t *testing.T) {
	for _, c := range []struct {
		grammar  Grammar
		text     string
		yes, not []string
	}{
		{Composer, "^8.1", []string{"8.1.0", "8.4.2"}, []string{"8.0.30", "9.0.0"}},
		{Composer, "~8.2", []string{"8.2.0", "8.9.1"}, []string{"8.1.9", "9.0.0"}},
		{Composer, "~8.2.3", []string{"8.2.3", "8.2.40"}, []string{"8.2.2", "8.3.0"}},
		{Composer, ">=7.4 <8.3", []string{"7.4.0", "8.2.30"}, []string{"7.3.9", "8.3.0"}},
		{Composer, "^7.4|^8.0", []string{"7.4.33", "8.4.1"}, []string{"7.3.0", "9.0.0"}},
		{Composer, ">=8.1, <8.4 || ^9.0", []string{"8.3.1", "9.1.0"}, []string{"8.4.0", "10.0.0"}},
		{Composer, "8.2.*", []string{"8.2.36"}, []string{"8.3.0"}},
		{Composer, "8.1 - 8.3", []string{"8.1.0", "8.2.4"}, []string{"8.0.1", "8.4.0"}},
		{Composer, "*", []string{"5.6.0", "8.4.0"}, nil},
		{Composer, "^8.2@dev", []string{"8.3.0"}, []string{"9.0.0"}},
		{NPM, ">=18.0.0 <21", []string{"18.0.0", "20.11.1"}, []string{"16.1.0", "21.0.0"}},
		{NPM, "^18 || ^20", []string{"18.19.0", "20.1.0"}, []string{"19.0.0", "21.0.0"}},
		{NPM, "20.x", []string{"20.9.0"}, []string{"18.0.0"}},
		{NPM, "~20.9", []string{"20.9.4"}, []string{"20.10.0"}},
		{NPM, "18 - 20", []string{"19.0.0"}, []string{"17.9.9", "21.0.0"}},
		{NPM, "", []string{"1.0.0"}, nil},
		{PEP440, ">=3.9,<4", []string{"3.9.0", "3.12.1"}, []string{"3.8.18", "4.0.0"}},
		{PEP440, "~=3.9", []string{"3.9.0", "3.13.0"}, []string{"3.8.0", "4.0.0"}},
		{PEP440, "~=3.9.2", []string{"3.9.18"}, []string{"3.9.1", "3.10.0"}},
		{PEP440, "==3.11.*", []string{"3.11.9"}, []string{"3.12.0"}},
		{PEP440, ">=3.8, !=3.9.*", []string{"3.8.1", "3.10.0"}, []string{"3.9.4"}},
		{PEP440, "^3.10", []string{"3.12.0"}, []string{"3.9.0", "4.0.0"}},
		{RubyGems, "~> 3.1", []string{"3.1.0", "3.4.0"}, []string{"3.0.9", "4.0.0"}},
		{RubyGems, "~> 3.1.2", []string{"3.1.7"}, []string{"3.1.1", "3.2.0"}},
		{RubyGems, ">= 3.0, < 3.3", []string{"3.2.9"}, []string{"3.3.0"}},
		{RubyGems, "3.1.7", []string{"3.1.7"}, []string{"3.1.6"}},
		{Minimum, "1.22", []string{"1.22.0", "1.26.8"}, []string{"1.21.9"}},
		{Pin, "v20.11", []string{"20.11.1"}, []string{"20.12.0"}},
		{Pin, "lts/iron", []string{"20.1.0"}, []string{"22.0.0"}},
		{Pin, "ruby-3.1.2", []string{"3.1.2"}, []string{"3.1.3"}},
		{Pin, "3.1.2-p20", []string{"3.1.2"}, []string{"3.1.3"}},
		{Pin, "3.11 pypy3.9-7.3 3.10.4", []string{"3.11.7", "3.10.4"}, []string{"3.10.5", "3.9.0"}},
		{Pin, "system", []string{"1.0.0"}, nil},
		{Stack, "8.2", []string{"8.2.9"}, []string{"8.3.0"}},
	} {
		got, err := Read(c.grammar, c.text)
		require.NoError(t, err, "%s %q", c.grammar, c.text)
		for _, v := range c.yes {
			assert.True(t, got.Allows(v), "%s %q allows %s", c.grammar, c.text, v)
		}
		for _, v := range c.not {
			assert.False(t, got.Allows(v), "%s %q does not allow %s", c.grammar, c.text, v)
		}
	}
	for _, bad := range []struct {
		grammar Grammar
		text    string
	}{{Composer, "dev-main"},
		{Composer, "self.version"},
		{NPM, "workspace:*"},
		{PEP440, "three"},
		{Pin, "pypy3.9"},
		{Pin, "lts/nonsense"},
		{Pin, ""}} {
		_, err := Read(bad.grammar, bad.text)
		assert.Error(t, err, "%s %q", bad.grammar, bad.text)
	}
}
