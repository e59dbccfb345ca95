package environment

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFormat(t *testing.T) {
	vars := []string{"A=high tide", "B=it's $5 \\ `x`", "C=", "D=\u2019; x"}
	folders := []string{"/ferry office/bin", "/b"}
	for format, want := range map[string]string{
		"sh": "export A='high tide'\nexport B='it'\\''s $5 \\ `x`'\nexport C=''\nexport D='\u2019; x'\n" +
			"export PATH='/ferry office/bin:/b':\"$PATH\"\n",
		"fish": "set -gx A 'high tide'\nset -gx B 'it\\'s $5 \\\\ `x`'\nset -gx C ''\nset -gx D '\u2019; x'\n" +
			"set -gx PATH '/ferry office/bin' '/b' $PATH\n",
		"powershell": "$env:A = 'high tide'\n$env:B = 'it''s $5 \\ `x`'\n$env:C = ''\n" +
			"$env:D = '\u2019\u2019; x'\n" +
			"$env:PATH = '/ferry office/bin:/b:' + $env:PATH\n",
		"dotenv": "A='high tide'\nB=\"it's \\$5 \\\\ \\`x\\`\"\nC=''\nD='\u2019; x'\n",
	} {
		got, err := Format(format, vars, folders)
		require.NoError(t, err)
		assert.Equal(t, want, got, format)
	}
	_, err := Format("xml", vars, nil)
	assert.ErrorContains(t, err, "the formats are sh, fish")
}

// A shell that reads the text has the values.
func TestShellReadsFormat(t *testing.T) {
	text, err := Format("sh", []string{"TIDE=it's \"high\" $HOME\n`x` \\"}, []string{"/ferry office"})
	require.NoError(t, err)
	out, err := exec.Command("sh", "-c", text+"printf '%s|%s' \"$TIDE\" \"$PATH\"").Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "it's \"high\" $HOME\n`x` \\|/ferry office:")
}
