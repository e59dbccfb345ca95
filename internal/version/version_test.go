package version

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"10.11.19-MariaDB-0+deb12u1": "10.11.19", "8.2.36": "8.2.36", "v20.20.2": "20.20.2",
		"1.22": "1.22.0", "7": "7.0.0",
		"17.0.15.1": "17.0.15", "8.4.0RC2": "8.4.0-rc.2", "1.0beta": "1.0.0-beta", "8.3.0-dev": "8.3.0",
	} {
		v, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, v.String(), text)
	}
	_, err := Parse("unknown")
	assert.Error(t, err)
}

func TestAllows(t *testing.T) {
	for _, c := range []struct {
		constraint, version string
		want                bool
	}{
		{"8.2", "8.2.36", true},
		{"8.2", "8.20.1", false},
		{"8", "8.4.1", true},
		{"8.2.36", "8.2.36", true},
		{"8.2.36", "8.2.35", false},
		{">= 8.1, < 8.4", "8.3.9", true},
		{">= 8.1, < 8.4", "8.4.0", false},
		{">= 10.6", "10.11.19-MariaDB-0+deb12u1", true},
		{"", "1.2.3", true}, {">= 8.1", "8.5.0rc1", false}, {">= 8.5.0-0", "8.5.0rc1", true}, {"8.2", "unknown", false},
	} {
		got, err := ParseConstraint(c.constraint)
		require.NoError(t, err, c.constraint)
		assert.Equal(t, c.want, got.Allows(c.version), "%s of %s", c.version, c.constraint)
	}
	_, err := ParseConstraint("newest")
	assert.ErrorContains(t, err, "not a version constraint")
}

func TestCompare(t *testing.T) {
	assert.Negative(t, Compare("8.9", "8.10"))
	assert.Positive(t, Compare("10.11.19-MariaDB", "10.11.2"))
	assert.Zero(t, Compare("8.2", "8.2.0"))
	assert.Negative(t, Compare("x", "1"))
	assert.Positive(t, Compare("1", "x"))
}
