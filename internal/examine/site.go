package examine

import (
	"context"
	"errors"
	"html"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"dravit/internal/diagnose"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/materialise"
	"dravit/internal/project"
	"dravit/internal/resolver"
)

// maxPage is how much of a page is searched for causes, in bytes.
const maxPage = 256 << 10

// Site gathers the facts about a site that does not answer.
func Site(ctx context.Context, spec materialise.Spec, site materialise.Site, rungs []health.Result) diagnose.SiteFacts {
	out := diagnose.SiteFacts{Spec: site, Rungs: rungs}
	if health.FirstMiss(rungs) == nil {
		return out
	}
	out.Resolves, _ = resolver.Addresses(ctx, site.Host) // an unknown name has none
	path := site.Expect.URLPath()
	if req, err := http.NewRequestWithContext(ctx, http.MethodGet,
		strings.TrimSuffix(site.URL, "/")+path, nil); err == nil {
		req.Header.Set(health.CheckHeader, health.Checks)
		client := health.Client(health.Dial("tcp", kind.Loopback(spec.HTTPPort)))
		client.Timeout = health.Deadline
		if resp, err := client.Do(req); err == nil {
			text, _ := io.ReadAll(io.LimitReader(resp.Body, maxPage))
			resp.Body.Close()
			out.Status, out.Page = resp.StatusCode, html.UnescapeString(string(text))
		}
	}
	server, _ := spec.Part(site.Server)
	if i := slices.IndexFunc(server.Sites, func(x kind.VirtualHost) bool {
		return x.Name == site.Name
	}); i >= 0 && server.Sites[i].Root != "" {
		out.Root = examineRoot(server.Sites[i].Root)
	}
	return out
}

// examineRoot checks whether a document root may be read, from the top down.
func examineRoot(root string) diagnose.Root {
	out := diagnose.Root{Path: root}
	for at := root; at != filepath.Dir(at); at = filepath.Dir(at) {
		if _, err := os.Stat(at); errors.Is(err, fs.ErrNotExist) {
			out.Missing = true
		} else if err == nil && unix.Access(at, unix.X_OK) != nil {
			out.Closed = at // the last one found is the topmost
		}
	}
	if out.Missing || out.Closed != "" {
		return out
	}
	if unix.Access(root, unix.R_OK) != nil {
		out.Closed = root
	}
	for _, index := range project.Indexes {
		file := filepath.Join(root, index)
		if _, err := os.Stat(file); err != nil {
			continue
		}
		out.PHP = !out.Index && index == "index.php" || out.PHP && index != "index.html"
		out.Index = true
		if unix.Access(file, unix.R_OK) != nil && out.Closed == "" {
			out.Closed = file
		}
	}
	return out
}
