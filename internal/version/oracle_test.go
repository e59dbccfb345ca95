package version

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/Masterminds/semver/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Constraints mean the same as in a well-known library, which would slow every command down by its initialisation.
func TestAgainstLibrary(t *testing.T) {
	const seed = 7
	random := rand.New(rand.NewPCG(seed, seed))
	number := func() string { return fmt.Sprint(random.IntN(4)) }
	pick := func(of ...string) string { return of[random.IntN(len(of))] }
	word := func() string {
		v := number()
		for range random.IntN(3) {
			v += "." + pick(number(), number(), number(), "x", "*")
		}
		if strings.Count(v, ".") == 2 && !strings.ContainsAny(v, "x*") {
			v += pick("", "", "", "", "-rc.1", "-beta", "-0")
		}
		return pick("", "=", "!=", ">", "<", ">=", "<=", "=>", "=<", "~", "~>", "^") + pick("", "",
			" ") + pick("", "", "v") + v
	}
	for range 3000 {
		text := word()
		switch random.IntN(4) {
		case 0:
			text += pick(", ", " ", ",") + word()
		case 1:
			text += " || " + word()
		case 2:
			if random.IntN(4) == 0 {
				text = number() + "." + number() + " - " + number() + "." + number()
			}
		}
		if strings.Contains(text, "~") && strings.Contains(text, "0.0.0") ||
			strings.Contains(text, "!=") && strings.Contains(text, "-") {
			continue // the library is wrong here: everything satisfies the first, and 1.2.0-rc is not 1.2
		}
		want, err := semver.NewConstraint(text)
		got, gotErr := parseConstraint(text)
		require.Equal(t, err == nil, gotErr == nil, "%q: %v, and we say %v", text, err, gotErr)
		if err != nil {
			continue
		}
		for range 10 {
			version := number() + "." + number() + "." + number() + pick("", "", "", "-rc.1",
				"-rc.2", "-alpha", "-beta.1")
			v, err := semver.NewVersion(version)
			require.NoError(t, err)
			assert.Equal(t, want.Check(v), got.Allows(version), "%q of %s", text, version)
		}
		if t.Failed() {
			return
		}
	}
}
