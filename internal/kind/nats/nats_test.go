package nats

import (
	"context"
	"io"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
	"dravit/internal/stackfile"
)

// broker answers a session's log-in with first, and what follows it with then.
func broker(t *testing.T, first, then string) func(context.Context) (net.Conn, error) {
	t.Helper()
	ours, theirs := net.Pipe()
	t.Cleanup(func() { ours.Close(); theirs.Close() })
	go func() {
		_, _ = io.WriteString(theirs, "INFO {}\r\n")
		buffer := make([]byte, 4096)
		_, _ = theirs.Read(buffer)
		_, _ = io.WriteString(theirs, first)
		if then == "" {
			theirs.Close()
			return
		}
		_, _ = theirs.Read(buffer)
		go func() { _, _ = io.Copy(io.Discard, theirs) }()
		_, _ = io.WriteString(theirs, then)
		if !strings.HasSuffix(then, "\n") { // cut off
			theirs.Close()
		}
	}()
	return func(context.Context) (net.Conn, error) { return ours, nil }
}

func TestLogIn(t *testing.T) {
	for _, c := range []struct{ name, answer, want string }{
		{"accepted", "PONG\r\n", ""},
		{"accepted, with a question between", "+OK\r\nPONG\r\n", ""},
		{"refused", "-ERR 'Authorization Violation'\r\n",
			"expected a log-in with the stack's token, got Authorization Violation"},
		{"another server", "220 ready\r\n", `expected PONG, got "220 ready"`},
		{"cut off", "PO", "EOF"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := open(t.Context(), broker(t, c.answer, ""), "token")
			if c.want == "" {
				assert.NoError(t, err)
			} else {
				assert.ErrorContains(t, err, c.want)
			}
		})
	}
}

func TestMessages(t *testing.T) {
	for _, c := range []struct{ name, answer, want, wrong string }{
		{"plain", "MSG in 1 4\r\nkelp\r\n", "kelp", ""},
		{"with a subject for replies", "MSG in 1 out 4\r\nkelp\r\n", "kelp", ""},
		{"after the broker asked for a sign of life", "PING\r\nMSG in 1 4\r\nkelp\r\n", "kelp", ""},
		{"empty", "MSG in 1 0\r\n\r\n", "", ""},
		{"line ends inside", "MSG in 1 6\r\na\r\nb\r\n\r\n", "a\r\nb\r\n", ""},
		{"cut off", "MSG in 1 9\r\nkelp", "", "EOF"},
		{"longer than any proof", "MSG in 1 99999999\r\n", "", "expected a message"},
		{"of no length", "MSG in 1 -1\r\n", "", "expected a message"},
		{"not a message", "-ERR 'Permissions Violation'\r\n", "", "Permissions Violation"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, err := open(t.Context(), broker(t, "PONG\r\n", c.answer), "token")
			require.NoError(t, err)
			require.NoError(t, s.publish("in", []byte("kelp")))
			got, err := s.next()
			if c.wrong != "" {
				assert.ErrorContains(t, err, c.wrong)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, string(got))
		})
	}
}

func TestRequest(t *testing.T) {
	ask := func(answer string) (int, error) {
		s, err := open(t.Context(), broker(t, "PONG\r\n", answer), "token")
		require.NoError(t, err)
		var into struct{ Seq int }
		err = s.request("horn", struct{}{}, &into)
		return into.Seq, err
	}
	seq, err := ask("MSG in 1 9\r\n{\"seq\":7}\r\n")
	require.NoError(t, err)
	assert.Equal(t, 7, seq)
	_, err = ask("MSG in 1 40\r\n{\"error\":{\"description\":\"no horn here\"}}\r\n")
	assert.ErrorContains(t, err, "no horn here")
}

func TestFiles(t *testing.T) {
	p := kind.Part{
		Stack: "ferry", Name: "signals", Port: 14222, Password: "T", Data: `/home/ada "kelp"/data`,
		Want: stackfile.PartConfig{Settings: map[string]stackfile.Text{"max_payload": "2MB",
			"debug": "true", "lame": `a"} x`}},
	}
	files, err := nats{}.Files(p)
	require.NoError(t, err)
	require.Len(t, files, 1)
	assert.EqualValues(t, 0o600, files[0].Mode, "the token is in it")
	assert.Equal(t, strings.Join([]string{
		`authorization: { token: "T" }`,
		`debug: true`,
		`host: "127.0.0.1"`,
		`jetstream: { store_dir: "/home/ada \"kelp\"/data" }`,
		`lame: "a\"} x"`,
		`max_payload: 2MB`,
		`port: 14222`,
		`server_name: "ferry-signals"`,
		"",
	}, "\n"), files[0].Text)
}

// What nats-server 2.9.10 writes.
func TestWords(t *testing.T) {
	for _, c := range []struct{ log, because string }{
		{"nats-server: /c/nats.conf:6:1: unknown field \"tide\"\n",
			`NATS does not know a setting: unknown field "tide"`},
		{"nats-server: /c/nats.conf:6:1: interface conversion: interface {} is string, not int64\n",
			"NATS rejects a setting: interface conversion: interface {} is string, not int64"},
		{"[6308] 2026/11/26 03:17:47.827429 [FTL] Error listening on port: 127.0.0.1:14222, " +
			"\"listen tcp 127.0.0.1:14222: bind: address already in use\"\n",
			"the port was taken: Error listening on port: 127.0.0.1:14222, \"listen tcp 127.0.0.1:14222: bind: " +
				"address already in use"},
	} {
		because, next := kind.Explain(symptoms(), c.log, "signals")
		assert.Equal(t, c.because, because)
		assert.NotEmpty(t, next)
	}
	assert.Equal(t, "Can't start JetStream: fog",
		nats{}.LastWords("[1] 2026/11/26 [INF] Starting\n[1] 2026/11/26 [FTL] Can't start JetStream: fog\n"))
	assert.Empty(t, nats{}.LastWords("[INF] Server is ready\n"))
}

func TestInspect(t *testing.T) {
	says := func(text string) func(string, ...string) (string, error) {
		return func(string, ...string) (string, error) { return text, nil }
	}
	version, _, err := nats{}.Inspect(t.Context(), "/x", says("nats-server: v2.9.10\n"))
	require.NoError(t, err)
	assert.Equal(t, "2.9.10", version)
	_, _, err = nats{}.Inspect(t.Context(), "/x", says("I am a tide table"))
	assert.Error(t, err)
}
