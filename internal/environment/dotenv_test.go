package environment_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"dravit/internal/environment"
)

func TestSetDotenvKeepsEverythingElse(t *testing.T) {
	old := strings.Join([]string{
		"# Saltmarsh Ferry",
		"APP_NAME=\"Tide table\"   # shown on top",
		"",
		"  export DB_HOST = 'old'  # the database",
		"DB_PORT=3306",
		"#DB_PASSWORD=old",
		"NOTE=\"two lines:",
		"DB_PORT=1",
		"\"",
		"DB_USER=`old`",
		"DB_NAME= # none yet",
		"BROKEN='no end",
		"LAST=1",
	}, "\n")
	want := strings.Join([]string{
		"# Saltmarsh Ferry",
		"APP_NAME=\"Tide table\"   # shown on top",
		"",
		"  export DB_HOST = '127.0.0.1'  # the database",
		"DB_PORT=17201",
		"#DB_PASSWORD=old",
		"NOTE=\"two lines:",
		"DB_PORT=1",
		"\"",
		"DB_USER=`ferry`",
		"DB_NAME=tides # none yet",
		"BROKEN='no end",
		"LAST=1",
		"DB_PASSWORD='a b#c'",
		"",
	}, "\n")
	vars := []string{"DB_HOST=127.0.0.1", "DB_PORT=17201", "DB_PASSWORD=a b#c", "DB_USER=ferry", "DB_NAME=tides"}
	assert.Equal(t, want, environment.SetDotenv(old, vars))
	assert.Equal(t, want, environment.SetDotenv(want, vars), "nothing changes the second time")
	assert.Equal(t, "A=1\r\nB=2\r\n", environment.SetDotenv("A=0\r\n", []string{"A=1", "B=2"}))
	assert.Equal(t, "A=1\n", environment.SetDotenv("", []string{"A=1"}))
}

func TestSetDotenvQuotes(t *testing.T) {
	for _, c := range []struct{ old, value, want string }{
		{"old", "http://127.0.0.1:8080/?a", "http://127.0.0.1:8080/?a"},
		{"old", "a$b", "'a$b'"},
		{"old", "", ""},
		{"old", "it's", `"it's"`},
		{"'old'", "plain", "'plain'"},
		{"'old'", "it's", `"it's"`},
		{`"old"`, `a"b$c\`, `"a\"b\$c\\"`},
		{`"o\"ld" # why`, "new", `"new" # why`},
		{"`old`", "a`b", "'a`b'"},
		{"old#1", "2", "2"},
	} {
		assert.Equal(t, "X="+c.want+"\n", environment.SetDotenv("X="+c.old+"\n", []string{"X=" + c.value}), c.old)
	}
}

func FuzzSetDotenv(f *testing.F) {
	f.Add("A='1\nB=2", "x")
	f.Add("A='1\n", "#")
	f.Add("A=1 # x\nB=\"2\\\"\"", "a'b\"c\n")
	f.Fuzz(func(t *testing.T, text, value string) {
		if strings.ContainsRune(value, 0) {
			return
		}
		once := environment.SetDotenv(text, []string{"B=" + value})
		assert.Equal(t, once, environment.SetDotenv(once, []string{"B=" + value}), "it is set twice the same way")
		assert.Equal(t, text, environment.SetDotenv(text, nil), "without a variable nothing changes")
	})
}
