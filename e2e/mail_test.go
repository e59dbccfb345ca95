package e2e

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A test of an application waits for the mail that it sends.
func TestMailForTests(t *testing.T) {
	w := newWorld(t)
	w.write("dravit.toml", "name = \"harbour\"\n[part.mail]\nkind = \"dravit-mail\"\n")
	w.must("start")
	send := func(to, subject, text string) {
		w.must("run", "--", "python3", "-c", `
import os, smtplib, sys
s = smtplib.SMTP(os.environ["MAIL_HOST"], int(os.environ["MAIL_PORT"]))
s.sendmail("office@quay.example", sys.argv[1], "To: %s\r\nSubject: %s\r\n\r\n%s\r\n" % tuple(sys.argv[1:]))
`, to, subject, text)
	}
	send("ada@quay.example", "Your booking H2NB6V", "Two seats.")
	send("eve@quay.example", "Tides", "High at noon.\x1b[2J")
	r := w.must("mail")
	assert.Contains(t, r.stdout, "2 mails")
	assert.Contains(t, w.must("mail", "--to", "ADA@quay.example").stdout, "1 mail\n")
	r = w.must("mail", "wait", "--to", "ada@quay.example", "--subject", "booking", "--timeout", "5s")
	assert.Contains(t, r.stdout, "Two seats.")
	var out struct {
		Mail struct{ Subject, Text string }
	}
	w.json(&out, "mail", "wait", "--to", "eve@quay.example")
	assert.Contains(t, out.Mail.Text, "High at noon.")
	assert.NotContains(t, w.must("mail", "wait", "--to", "eve@quay.example").stdout, "\x1b")

	r = w.dravit("mail", "wait", "--to", "nobody@quay.example", "--timeout", "200ms")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.stderr, "within 200ms")
	waiting := w.command(t.Context(), "mail", "wait", "--new", "--to", "ada@quay.example", "--json")
	var said bytes.Buffer
	waiting.Stdout = &said
	require.NoError(t, waiting.Start())
	time.Sleep(300 * time.Millisecond)
	send("ada@quay.example", "Later", "It came.")
	require.NoError(t, waiting.Wait())
	assert.Contains(t, said.String(), "It came.")
	w.must("stop")
	assert.Equal(t, 1, w.dravit("mail").code)
}
