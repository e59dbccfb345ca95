package e2e

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/stack"
)

// Every site answers over HTTPS and HTTP/2 with a certificate for its name, which Go, curl and openssl verify with the
// authority alone. Behind each web server, the application knows that the client used HTTPS.
func TestHTTPS(t *testing.T) {
	for _, server := range []string{"nginx", "dravit-web", "apache"} {
		w := newWorld(t)
		w.write("dravit.toml", fmt.Sprintf("name = \"safe\"\n[part.web]\nkind = %q\n[part.app]\nkind = \"php\"\n"+
			"[[site]]\nname = \"safe\"\naliases = [\"*.quay\"]\napp = \"app\"\n", server))
		w.write("public/index.php", `<?php echo ($_SERVER["HTTPS"] ?? ""), " ", $_SERVER["REQUEST_SCHEME"], " ", `+
			`$_SERVER["SERVER_PORT"], " ", $_SERVER["HTTP_HOST"];`)
		w.write("public/deep/index.html", "deep")
		w.must("start")
		var names stack.Names
		w.json(&names, "names")
		require.Len(t, names.Names, 2)
		assert.False(t, names.Trusted)
		byName := map[string]stack.Name{}
		for _, n := range names.Names {
			assert.True(t, n.Served)
			byName[n.Name] = n
		}
		secure := byName["safe.localhost"].HTTPSURL
		_, port, err := net.SplitHostPort(strings.TrimSuffix(strings.TrimPrefix(secure, "https://"), "/"))
		require.NoError(t, err)
		authority, err := os.ReadFile(names.Authority)
		require.NoError(t, err)
		roots := x509.NewCertPool()
		require.True(t, roots.AppendCertsFromPEM(authority))
		client := &http.Client{Transport: &http.Transport{ForceAttemptHTTP2: true,
			TLSClientConfig: &tls.Config{RootCAs: roots},
			DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, network, "127.0.0.1:"+port)
			}}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		for _, host := range []string{"safe.localhost", "east.quay.localhost"} {
			resp, err := client.Get("https://" + host + ":" + port + "/")
			require.NoError(t, err, host)
			body, err := io.ReadAll(resp.Body)
			resp.Body.Close()
			require.NoError(t, err)
			assert.Equal(t, 2, resp.ProtoMajor)
			assert.Equal(t, "on https "+port+" "+host+":"+port, string(body), server)
		}
		resp, err := client.Get("https://safe.localhost:" + port + "/deep")
		require.NoError(t, err)
		resp.Body.Close()
		assert.Contains(t, []int{301, 302}, resp.StatusCode)
		assert.NotContains(t, resp.Header.Get("Location"), "http://", "%s: a redirect stays on HTTPS", server)
		_, err = client.Get("https://elsewhere.example:" + port + "/")
		assert.Error(t, err, "no certificate for a name that is not ours")
		client.CloseIdleConnections()
		if server != "nginx" {
			continue
		}
		out, err := exec.Command("curl", "-sS", "--cacert", names.Authority, secure).CombinedOutput()
		assert.NoError(t, err, string(out))
		assert.Contains(t, string(out), "on https")
		_, err = exec.Command("curl", "-sS", secure).CombinedOutput()
		assert.Error(t, err, "nothing trusts it unasked")
		openssl := exec.Command("openssl", "s_client", "-connect", "127.0.0.1:"+port, "-servername", "safe.localhost",
			"-verify_hostname", "safe.localhost", "-CAfile", names.Authority, "-verify_return_error", "-brief")
		out, err = openssl.CombinedOutput()
		assert.NoError(t, err, string(out))
		assert.Contains(t, string(out), "Verification: OK")
		text := w.must("names").stdout
		assert.Contains(t, text, "which no program trusts yet")
		assert.Contains(t, text, secure)
		w.must("stop")
		assert.Contains(t, w.must("names").stdout, "stopped")
	}
}
