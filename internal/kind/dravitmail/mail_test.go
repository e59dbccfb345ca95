package dravitmail

import (
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"net/smtp"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
)

func catch(t *testing.T) (*box, string) {
	t.Helper()
	b := &box{folder: t.TempDir()}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := newServer(b)
	go func() { _ = s.Serve(l) }()
	t.Cleanup(func() { s.Close() })
	return b, l.Addr().String()
}

const whole = "From: =?utf-8?q?F=C3=A4hre?= <office@saltmarsh-ferry.example>\r\nTo: ada@quay.example\r\n" +
	"Subject: =?utf-8?b?w5xiZXJmYWhydA==?=\r\nMIME-Version: 1.0\r\n" +
	"Content-Type: multipart/mixed; boundary=outer\r\n\r\n--outer\r\n" +
	"Content-Type: multipart/alternative; boundary=inner\r\n\r\n" +
	"--inner\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: quoted-printable\r\n" +
	"\r\nGr=C3=BC=C3=9Fe=\r\n!\r\n" +
	"--inner\r\nContent-Type: text/html\r\nContent-Transfer-Encoding: base64\r\n\r\n" +
	"PGI+aGk8L2I+PHNjcmlwdD5hbGVydCgxKTwvc2NyaXB0Pg==\r\n--inner--\r\n" +
	"--outer\r\nContent-Type: application/pdf\r\n" +
	"Content-Disposition: attachment; filename=\"ticket.pdf\"\r\n\r\n%PDF\r\n--outer--\r\n"

func TestCatch(t *testing.T) {
	b, address := catch(t)
	require.NoError(t, Send(address, "office@saltmarsh-ferry.example",
		[]string{"ada@quay.example", "hidden@quay.example"}, []byte(whole)))
	list, err := b.list("")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "Überfahrt", list[0].Subject)
	assert.Equal(t, []string{"ada@quay.example", "hidden@quay.example"}, list[0].To,
		"as the server was told, blind copies included")
	assert.Contains(t, list[0].From, "Fähre")
	m, err := b.read(list[0].ID)
	require.NoError(t, err)
	assert.Contains(t, m.Text, "Grüße!")
	assert.Contains(t, m.HTML, "<b>hi</b>")
	assert.Equal(t, []string{"ticket.pdf"}, m.Files)
	info, err := os.Stat(filepath.Join(b.folder, m.ID+".eml"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	for _, id := range []string{"../../etc/passwd", "", "20261123T000000.000Z-AAAA", "x"} {
		_, err := b.read(id)
		assert.ErrorIs(t, err, errNoMessage, id)
	}
	require.NoError(t, Send(address, "", []string{"a@b.example"}, []byte("Subject: two\n\nx\n")))
	list, _ = b.list("")
	assert.Equal(t, "two", list[0].Subject, "the newest first")
	require.NoError(t, b.clear())
	list, _ = b.list("")
	assert.Empty(t, list)
}

func TestOddMessages(t *testing.T) {
	b, address := catch(t)
	nested := "Content-Type: multipart/mixed; boundary=b\r\n\r\n"
	text := nested
	for range 50 {
		text += "--b\r\n" + nested
	}
	for _, odd := range []string{"no headers at all", "", "Subject: x\r\nContent-Type: multipart/mixed\r\n\r\n" +
		"no boundary", "Content-Transfer-Encoding: base64\r\n\r\n!!!", text} {
		require.NoError(t, smtp.SendMail(address, nil, "a@b.example", []string{"c@d.example"}, []byte(odd)))
	}
	list, err := b.list("")
	require.NoError(t, err)
	assert.Len(t, list, 5, "whatever comes is kept and shown")
}

func TestInbox(t *testing.T) {
	b, address := catch(t)
	require.NoError(t, Send(address, "a@b.example", []string{"c@d.example"}, []byte(whole)))
	list, _ := b.list("")
	h := inbox(config{Host: "mail.ferry.localhost", SMTP: address, Token: "kelp"}, b)
	ask := func(method, host, path string, form url.Values) *httptest.ResponseRecorder {
		r := httptest.NewRequest(method, "http://"+host+path, strings.NewReader(form.Encode()))
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w
	}
	const own = "mail.ferry.localhost:8080"
	page := ask("GET", own, "/", nil)
	assert.Equal(t, 200, page.Code)
	assert.Contains(t, page.Body.String(), "Überfahrt")
	assert.Contains(t, page.Header().Get("Content-Security-Policy"), "default-src 'none'")
	page = ask("GET", own, "/message/"+list[0].ID, nil)
	assert.Contains(t, page.Body.String(), `<iframe sandbox srcdoc="&lt;b&gt;hi`,
		"foreign HTML is shown in a sandbox, as text of an attribute")
	assert.NotContains(t, page.Body.String(), "<script>alert")
	assert.Equal(t, 404, ask("GET", own, "/message/none", nil).Code)
	assert.Equal(t, 404, ask("GET", own, "/message/none/json", nil).Code)
	for _, foreign := range []string{"rebound.example", "ferry.localhost", "127.0.0.1:8080"} {
		assert.Equal(t, 404, ask("GET", foreign, "/", nil).Code, foreign)
	}
	var got struct {
		Format   int
		Messages []kind.Mail
	}
	require.NoError(t, json.Unmarshal(ask("GET", own, "/messages.json", nil).Body.Bytes(), &got))
	assert.Equal(t, 1, got.Format)
	require.Len(t, got.Messages, 1)
	var one kind.Mail
	require.NoError(t, json.Unmarshal(ask("GET", own, "/message/"+list[0].ID+"/json", nil).Body.Bytes(), &one))
	assert.Contains(t, one.Text, "Grüße")

	source := ask("GET", own, "/message/"+list[0].ID+"/source", nil)
	assert.True(t, strings.HasPrefix(source.Body.String(), whole[:20]), "as it came")
	assert.Equal(t, "text/plain; charset=utf-8", source.Header().Get("Content-Type"))
	file := ask("GET", own, "/message/"+list[0].ID+"/file/0", nil)
	require.Equal(t, 200, file.Code)
	assert.Contains(t, file.Header().Get("Content-Disposition"), "attachment; filename=")
	assert.NotEmpty(t, file.Body.String())
	for _, none := range []string{"/file/9", "/file/-1", "/file/x"} {
		assert.Equal(t, 404, ask("GET", own, "/message/"+list[0].ID+none, nil).Code, none)
	}
	assert.Contains(t, ask("GET", own, "/?search=GR%C3%9C%C3%9FE", nil).Body.String(), "Überfahrt", "in any case")
	assert.NotContains(t, ask("GET", own, "/?search=nowhere", nil).Body.String(), "Überfahrt")

	require.NoError(t, Send(address, "a@b.example", []string{"c@d.example"}, []byte("Subject: second\n\nx\n")))
	list, _ = b.list("second")
	require.Len(t, list, 1)
	gone := "/message/" + list[0].ID + "/delete"
	assert.Equal(t, 403, ask("POST", own, gone, nil).Code)
	assert.Equal(t, http.StatusSeeOther, ask("POST", own, gone, url.Values{"token": {"kelp"}}).Code)
	assert.Equal(t, 404, ask("POST", own, gone, url.Values{"token": {"kelp"}}).Code)
	assert.NotContains(t, ask("GET", own, "/", nil).Body.String(), "second")

	assert.Equal(t, 403, ask("POST", own, "/clear", nil).Code, "a change needs the page's token")
	assert.Equal(t, 403, ask("POST", own, "/clear", url.Values{"token": {"salt"}}).Code)
	assert.Equal(t, 405, ask("GET", own, "/clear", nil).Code)
	assert.Equal(t, http.StatusSeeOther, ask("POST", own, "/clear", url.Values{"token": {"kelp"}}).Code)
	assert.Contains(t, ask("GET", own, "/", nil).Body.String(), "No mail yet")
}

func TestRecipients(t *testing.T) {
	to, err := Recipients([]byte("To: Ada <ada@quay.example>, ben@quay.example\nBcc: cleo@quay.example\n\nhi"))
	require.NoError(t, err)
	assert.Equal(t, []string{"ada@quay.example", "ben@quay.example", "cleo@quay.example"}, to)
	_, err = Recipients([]byte("To: nobody at all,,\n\nhi"))
	assert.ErrorContains(t, err, "To:")
}

func TestDataIsDotSafe(t *testing.T) {
	b, address := catch(t)
	require.NoError(t, Send(address, "a@b.example", []string{"c@d.example"}, []byte("Subject: dots\n\n.\n..two\nend")))
	list, _ := b.list("")
	m, err := b.read(list[0].ID)
	require.NoError(t, err)
	assert.Equal(t, ".\n..two\nend", strings.TrimSpace(strings.ReplaceAll(m.Text, "\r\n", "\n")))
}
