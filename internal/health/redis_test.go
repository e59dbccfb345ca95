package health

import (
	"bufio"
	"context"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/alicebob/miniredis/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravit/internal/kind"
)

// scriptedCache answers each command with the next reply. It returns the commands that it got.
func scriptedCache(t *testing.T, replies ...string) (dial func(context.Context) (net.Conn, error),
	commands func() []string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	var mu sync.Mutex
	var got []string
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			t.Cleanup(func() { conn.Close() })
			in := bufio.NewReader(conn)
			for {
				var words []string
				n := 0
				if line, err := in.ReadString('\n'); err != nil || !strings.HasPrefix(line, "*") {
					break
				} else {
					n = int(line[1] - '0')
				}
				for range n {
					_, _ = in.ReadString('\n') // its length
					word, _ := in.ReadString('\n')
					words = append(words, strings.TrimSpace(word))
				}
				mu.Lock()
				got = append(got, strings.Join(words, " "))
				reply := ""
				if len(got) <= len(replies) {
					reply = replies[len(got)-1]
				}
				mu.Unlock()
				_, _ = io.WriteString(conn, reply)
			}
			conn.Close()
		}
	}()
	return Dial("tcp", l.Addr().String()), func() []string {
		mu.Lock()
		defer mu.Unlock()
		return got
	}
}

func TestRedisReplies(t *testing.T) {
	for _, c := range []struct{ name, reply, want, miss string }{
		{"text", "+PONG\r\n", "PONG", ""},
		{"number", ":42\r\n", "42", ""},
		{"bulk", "$5\r\nke\nlp\r\n", "ke\nlp", ""},
		{"empty bulk", "$0\r\n\r\n", "", ""},
		{"nothing", "$-1\r\n", "", ""},
		{"refused", "-NOAUTH log in first\r\n", "", "expected GET accepted, got NOAUTH log in first"},
		{"another protocol", "220 ready\r\n", "", "expected a reply to GET, got an answer that is not Redis' protocol"},
		{"an empty line", "\r\n", "", "expected a reply to GET"},
		{"cut off", "$9\r\nkelp", "", "deadline"},
	} {
		t.Run(c.name, func(t *testing.T) {
			dial, commands := scriptedCache(t, c.reply)
			ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
			defer cancel()
			got, err := Redis(ctx, dial, "", []string{"GET", "x"})
			if c.miss != "" {
				require.Error(t, err)
				if c.miss != "deadline" {
					assert.ErrorContains(t, err, c.miss)
				}
				return
			}
			require.NoError(t, err)
			assert.Equal(t, []string{c.want}, got)
			assert.Equal(t, []string{"GET x"}, commands(), "without a password nobody logs in")
		})
	}
}

// After a refused log-in no command is sent; after a refused command no other.
func TestRedisStopsAtRefusal(t *testing.T) {
	dial, commands := scriptedCache(t, "-WRONGPASS no\r\n")
	_, err := Redis(t.Context(), dial, "kelp", []string{"GET", "x"})
	assert.ErrorContains(t, err, "WRONGPASS")
	assert.Equal(t, []string{"AUTH kelp"}, commands())
	dial, commands = scriptedCache(t, "+OK\r\n", "-ERR no\r\n")
	_, err = Redis(t.Context(), dial, "kelp", []string{"GET", "x"}, []string{"DEL", "x"})
	assert.ErrorContains(t, err, "GET accepted")
	assert.Equal(t, []string{"AUTH kelp", "GET x"}, commands())
}

// Each rung compares a cache's answer with what it should be.
func TestCacheThatLies(t *testing.T) {
	p, _ := serving(t)
	for _, c := range []struct {
		name    string
		replies []string
		dots    string
		got     string
	}{
		{"greets with a different answer", []string{"+OK\r\n", "+HELLO\r\n"}, "xxxo.", "HELLO"},
		{"keeps nothing", []string{"+OK\r\n", "+PONG\r\n", "+OK\r\n", "$-1\r\n", ":0\r\n"}, "xxxxo", ""},
		{"keeps a different answer",
			[]string{"+OK\r\n", "+PONG\r\n", "+OK\r\n", "$5\r\nfiver\r\n", ":1\r\n"}, "xxxxo", "fiver"},
	} {
		t.Run(c.name, func(t *testing.T) {
			dial, commands := scriptedCache(t, c.replies...)
			conn, err := dial(t.Context())
			require.NoError(t, err)
			p.Port, p.Password = conn.RemoteAddr().(*net.TCPAddr).Port, "kelp"
			conn.Close()
			got := Climb(t.Context(), Cache(p))
			assert.Equal(t, c.dots, dots(got))
			assert.Equal(t, c.got, FirstMiss(got).Got)
			if len(c.replies) == 5 {
				all := commands()
				require.Len(t, all, 5)
				assert.Regexp(t, `^SET dravit:probe:\d+ \d+ EX 10$`, all[2])
				assert.Equal(t, "DEL "+strings.Fields(all[2])[1], all[4], "its own key, and no other")
			}
		})
	}
}

// A deep check reads over one connection what another wrote, and deletes it.
func TestCacheDeepChecks(t *testing.T) {
	m := miniredis.RunT(t)
	m.RequireAuth("kelp")
	port := m.Server().Addr().Port
	deepChecks := CacheDeepChecks(kind.Part{Port: port, Password: "kelp"})
	require.Len(t, deepChecks, 1)
	assert.Equal(t, "stores", deepChecks[0].Name)
	require.NoError(t, deepChecks[0].Ask(t.Context()))
	assert.Empty(t, m.Keys())
	assert.ErrorContains(t, CacheDeepChecks(kind.Part{Port: port, Password: "salt"})[0].Ask(t.Context()), "WRONGPASS")

	dial, commands := scriptedCache(t, "+OK\r\n", "+OK\r\n", "+OK\r\n", "$4\r\nsalt\r\n", ":1\r\n")
	conn, err := dial(t.Context())
	require.NoError(t, err)
	port = conn.RemoteAddr().(*net.TCPAddr).Port
	conn.Close()
	err = CacheDeepChecks(kind.Part{Port: port, Password: "kelp"})[0].Ask(t.Context())
	assert.ErrorContains(t, err, "expected the value that another connection wrote, got salt")
	all := commands()
	require.Len(t, all, 5)
	assert.Regexp(t, `^SET dravit:proof:\w+ \w+ EX 60$`, all[1])
}

// Without a deadline of the caller, a request has the usual one.
func TestRedisHasADeadline(t *testing.T) {
	ours, theirs := net.Pipe()
	defer theirs.Close()
	conn := &deadlines{Conn: ours}
	s := &session{conn: conn}
	s.until(context.Background())
	assert.WithinDuration(t, time.Now().Add(Deadline), conn.at, time.Second)
	ctx, cancel := context.WithTimeout(t.Context(), time.Hour)
	defer cancel()
	s.until(ctx)
	assert.WithinDuration(t, time.Now().Add(time.Hour), conn.at, time.Second)
}

type deadlines struct {
	net.Conn
	at time.Time
}

func (d *deadlines) SetDeadline(at time.Time) error {
	d.at = at
	return nil
}
