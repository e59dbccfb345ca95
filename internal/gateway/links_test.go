package gateway

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A link in the document root may lead to another place of the project, or to one that the user allowed; no further.
func TestLinksThatLeadOut(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	project, allowed := filepath.Join(dir, "project"), filepath.Join(dir, "allowed")
	root := filepath.Join(project, "public")
	for _, folder := range []string{root + "/a/b", root + "/idx", project + "/storage", allowed, dir + "/secret"} {
		require.NoError(t, os.MkdirAll(folder, 0o755))
	}
	for _, file := range []string{root + "/a/x.html", project + "/storage/x", allowed + "/x", dir + "/secret/x"} {
		require.NoError(t, os.WriteFile(file, nil, 0o600))
	}
	for link, to := range map[string]string{"storage": "../storage", "shared": allowed, "out": dir + "/secret",
		"file": dir + "/secret/x", "a/b/up": "../../../../secret", "loop": "loop", "gone": "/nowhere", "again": "out",
		"idx/index.html": dir + "/secret/x"} {
		require.NoError(t, os.Symlink(to, filepath.Join(root, link)))
	}
	to := &target{Route: Route{Root: root, Within: []string{project, allowed}}}
	for path, out := range map[string]bool{
		"/": false, "": false, "/a/x.html": false, "/a/x.html/rest/of/it": false, "/storage/x": false,
		"/shared/x": false,
		"/loop":     false, "/gone": false, "/no/such": false, "/storage/none": false,
		"/out": true, "/out/": true, "/out/x": true, "/out/none": true, "/file": true, "/a/b/up/x": true,
		"//out//x":    true,
		"/a/../out/x": true, "/again/x": true, "/idx/": true, "/idx": true, "/file/rest": true,
	} {
		for range 2 { // remembered, too
			assert.Equal(t, out, to.leadsOut(path), path)
		}
	}
	assert.False(t, (&target{}).leadsOut("/out"), "an application's own server has no document root")
}
