package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/ui"
)

func TestParagraphsFitTheWidth(t *testing.T) {
	got := paragraphs("The ferry sails\nat noon, and\nreturns at dusk.\n\nBoats:\n  heron   the day boat, which\n"+
		"          carries cars\n  owl     the night boat", 32)
	assert.Equal(t, strings.Join([]string{
		"The ferry sails at noon, and",
		"returns at dusk.",
		"",
		"Boats:",
		"  heron   the day boat, which",
		"          carries cars",
		"  owl     the night boat",
	}, "\n"), got)
	for line := range strings.SplitSeq(paragraphs("a b c d e f g h i j k l m n o p q r s t u v w", 20), "\n") {
		assert.LessOrEqual(t, len(line), 20)
	}
}

// The help of every command fits 100 columns and has an example, one line each.
func TestHelpOfEveryCommand(t *testing.T) {
	for _, c := range new(app).root().Commands() {
		if c.Hidden || c.Name() == "completion" || c.Name() == "help" {
			continue
		}
		var b strings.Builder
		c.SetOut(&b)
		assert.NoError(t, c.Help())
		assert.Contains(t, b.String(), "Examples:", c.Name())
		for line := range strings.SplitSeq(b.String(), "\n") {
			assert.LessOrEqual(t, len([]rune(line)), 100, "%s: %s", c.Name(), line)
		}
	}
}

// Each word that is no command leads to the command that was probably meant.
func TestWordsThatAreNoCommands(t *testing.T) {
	for word, next := range map[string]string{
		"mark": "dravit db mark", "rewind": "dravit db rewind", "up": "dravit start", "statsu": "dravit status",
		"lighthouse": "dravit --help lists the commands",
	} {
		var f *ui.Failure
		require.ErrorAs(t, noArgs(new(app).root(), []string{word}), &f)
		assert.Equal(t, next, f.Next, word)
	}
}
