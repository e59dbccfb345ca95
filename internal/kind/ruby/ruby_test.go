package ruby

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

func TestScan(t *testing.T) {
	project := t.TempDir()
	for _, dir := range []string{"ruby/3.1.0/extensions/x86_64-linux/3.1.0/kelp-1.2.3",
		"ruby/2.7.0/extensions/x86_64-linux/2.7.0-static/sea-weed-0.1.0"} {
		require.NoError(t, os.MkdirAll(filepath.Join(project, "vendor/bundle", dir), 0o755))
	}
	modules := ruby{}.Scan(project, stackfile.PartConfig{})
	built := map[string]string{}
	for _, m := range modules {
		built[m.Name] = m.Built
	}
	assert.Equal(t, map[string]string{"kelp": "3.1.0", "sea-weed": "2.7.0"}, built)
	e := ruby{}.Extend(stackfile.PartConfig{},
		kind.Program{Version: "3.1.7", Facts: map[string]string{factABI: "3.1.0"}}, kind.NewLibrary(modules))
	require.Len(t, e.Unfit, 1)
	assert.Equal(t, "it was built for Ruby ABI 2.7.0, and ruby 3.1.7 has 3.1.0", e.Unfit[0].Because)
}

func TestExplain(t *testing.T) {
	for log, want := range map[string]string{
		"crew.rb:1:in `require': cannot load such file -- kelp (LoadError)": "the library kelp " +
			"is not installed for this Ruby",
		"LoadError: incompatible library version - /v/kelp.so": "the native extension /v/kelp.so " +
			"was built for another Ruby",
		"Could not find kelp-1.2 in locally installed gems (Bundler::GemNotFound)": "the gem kelp-1.2 is " +
			"not installed for this Ruby",
		"LoadError - cannot load such file -- kelp:": "the library kelp is not installed for this Ruby",
		"cannot load such file -- /v/kelp (LoadError)": "the file /v/kelp, which the code requires, does " +
			"not exist",
		"NameError - uninitialized constant Kelp::Bed": "the code uses the constant Kelp::Bed, which does " +
			"not exist",
		"a.rb:1:in `x': uninitialized constant Kelp (NameError)": "the code uses the constant Kelp, which " +
			"does not exist",
		"/v/crew.rb:3: syntax error, unexpected end-of-input": "Ruby finds a syntax error, unexpected " +
			"end-of-input",
		"No such file or directory @ rb_sysopen - /v/kelp.json:": "the application uses /v/kelp.json, " +
			"which does not exist",
		"PG::SyntaxError - ERROR:  syntax error at or near \"K\"": "",
		"all is well": "",
	} {
		because, _ := kind.Explain(symptoms(), log, "crew")
		assert.Equal(t, want, because)
	}
}
