package e2e

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// signalPy asks the broker's interface for streams, as an application would, and prints the answer.
const signalPy = `import os, socket, sys, urllib.parse
url = urllib.parse.urlparse(os.environ["NATS_URL"])
peer = socket.create_connection((url.hostname, url.port), 5)
lines = peer.makefile("rb")
lines.readline()
token = sys.argv[3] if len(sys.argv) > 3 else url.username
message = sys.argv[2].encode()
peer.sendall(b'CONNECT {"verbose":false,"pedantic":false,"auth_token":"%s"}\r\nSUB back 1\r\nPUB %s back %d\r\n%s\r\n'
  % (token.encode(), sys.argv[1].encode(), len(message), message))
print(lines.readline().decode().strip())
print(lines.readline().decode().strip())
`

// A message broker is a store like the others: it has a port, a ladder, variables, and keeps its data.
func TestBroker(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.write("signal.py", signalPy)
	w.write("index.php", "<h1>Fog signals</h1>")
	w.write("dravit.toml", `name = "fog"
[part.signals]
kind = "nats"
settings = { max_payload = "2MB" }
[part.app]
kind = "php"
extensions = []
[[site]]
name = "fog"
app = "app"
expect = { text = "Fog signals" }
`)
	w.must("start")
	assert.Contains(t, w.must("check", "--deep").stdout, "stores")
	var way struct {
		Legs []struct {
			Who   string
			Holds *bool
		}
	}
	w.json(&way, "check", "--trace", "fog")
	last := way.Legs[len(way.Legs)-1]
	assert.Equal(t, "signals", last.Who)
	assert.Nil(t, last.Holds, "PHP's probe has no client for the broker: it did not ask")

	ask := func(subject, message string, more ...string) string {
		return w.dravit(append([]string{"run", "--", "python3", "signal.py", subject, message}, more...)...).stdout
	}
	assert.Contains(t, ask("harbour", "{}", "a token of mine"), "Authorization Violation")
	streams := ask("$JS.API.STREAM.NAMES", "")
	assert.Contains(t, streams, `"streams":null`, "the deep check leaves nothing behind")
	require.Contains(t,
		ask("$JS.API.STREAM.CREATE.horn", `{"name":"horn","subjects":["horn"],"storage":"file"}`), `"created"`)
	require.Contains(t, ask("horn", "fog at noon"), `"seq":1`)

	old := w.status().part(t, "signals")
	kill(t, old.PID)
	w.eventually("the broker is back after it was killed", func() bool {
		p := w.status().part(t, "signals")
		return p.State == "answers" && p.PID != old.PID
	})
	w.must("stop")
	w.must("start")
	assert.Equal(t, old.Port, w.status().part(t, "signals").Port)
	assert.Contains(t, ask("$JS.API.STREAM.MSG.GET.horn", `{"seq":1}`), "Zm9nIGF0IG5vb24=", "fog at noon, in base64")
}

// start repeats what the broker says about a setting.
func TestBrokerRefusesSetting(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	file := "name = \"fog\"\n[part.signals]\nkind = \"nats\"\n"
	w.write("dravit.toml", file+"settings = { tide = \"3\" }\n")
	r := w.dravit("start")
	assert.Equal(t, 1, r.code, r.all())
	assert.Contains(t, r.all(), `NATS does not know a setting: unknown field "tide"`)
	w.write("dravit.toml", file+"settings = { http_port = \"8222\" }\n")
	r = w.dravit("start")
	assert.Equal(t, 3, r.code, "monitoring would be open to everybody: "+r.all())
	w.write("dravit.toml", file+"settings = { host = \"0.0.0.0\" }\n")
	r = w.dravit("start")
	assert.Equal(t, 0, r.code, r.all())
	conf, err := os.ReadFile(w.stackPath("conf", "signals", "nats.conf"))
	require.NoError(t, err)
	assert.Contains(t, string(conf), `host: "127.0.0.1"`, "nobody agreed to open it")
}
