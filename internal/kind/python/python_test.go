package python

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

func write(t *testing.T, path, text string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

// A virtual environment made by 3.9, with packages of every sort.
func TestScan(t *testing.T) {
	project := filepath.Join(t.TempDir(), "ferry [office]")
	assert.Empty(t, python{}.Scan(project, stackfile.PartConfig{}), "without a virtual environment nothing is known")
	write(t, filepath.Join(project, ".venv/pyvenv.cfg"),
		"home = /usr/bin\ninclude-system-site-packages = false\nversion = 3.9.18\n")
	site := filepath.Join(project, ".venv/lib/python3.9/site-packages")
	for _, f := range []string{"kelp/core/_hash.cpython-39-x86_64-linux-gnu.so", "stable/_x.abi3.so",
		"single.cpython-311-x86_64-linux-gnu.so", "plain/__init__.py", "Kelp_Meal-1.0.dist-info/METADATA",
		"plain-2.0.dist-info/METADATA"} {
		write(t, filepath.Join(site, f), "")
	}
	write(t, filepath.Join(project, "requirements.txt"),
		"# ours\nkelp.meal>=1\nplain[extra]==2.0 ; python_version > '3'\nbarnacle~=3.1\n-r other.txt\n\n")
	modules := python{}.Scan(project, stackfile.PartConfig{})
	built := map[string]string{}
	for _, m := range modules {
		built[m.Name] = m.Built + m.Fault
	}
	assert.Equal(t, map[string]string{".venv": "cpython-39", "kelp": "cpython-39", "single": "cpython-311",
		"barnacle": "it is not installed in .venv"}, built)

	e := python{}.Extend(stackfile.PartConfig{},
		kind.Program{Version: "3.9.18", Facts: map[string]string{factABI: "cpython-39"}}, kind.NewLibrary(modules))
	require.Len(t, e.Unfit, 2)
	assert.Equal(t, "it was built for ABI cpython-311, and python 3.9.18 has cpython-39", e.Unfit[0].Because)
	p := kind.Part{Project: project, Conf: "/c", Version: "3.9.1"}
	assert.Equal(t, []string{filepath.Join(project, ".venv/bin"), "/c/bin"}, python{}.Folders(p))
	p.Version = "3.11.2"
	assert.Equal(t, []string{"/c/bin"}, python{}.Folders(p), "another interpreter's environment is left aside")

	write(t, filepath.Join(project, "api/venv/pyvenv.cfg"), "version = 3.11.2\n")
	p.Want.Command = "cd api && exec uvicorn app:app"
	assert.Equal(t, []string{filepath.Join(project, "api/venv/bin"), "/c/bin"}, python{}.Folders(p),
		"the nearest to where the command works")
}

func TestExplain(t *testing.T) {
	because, next := kind.Explain(symptoms(), "Traceback (most recent call last):\n  File \"x.py\", line 1\n"+
		"ModuleNotFoundError: No module named 'kelp'\n", "crew")
	assert.Equal(t, "the package kelp is not installed for this interpreter", because)
	assert.Contains(t, next, "pip install kelp")
	because, _ = kind.Explain(symptoms(), "ImportError: kelp.so: undefined symbol: _PyGen_Send\n", "crew")
	assert.Equal(t, "a compiled package was built for another Python: kelp.so: undefined symbol: _PyGen_Send", because)
}
