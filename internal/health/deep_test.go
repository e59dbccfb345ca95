package health

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // a database to prove

	"dravit/internal/about"
	"dravit/internal/kind"
)

// A deep check leaves no table behind, even if the caller stops waiting.
func TestInterruptedProofLeavesNothing(t *testing.T) {
	file := filepath.Join(t.TempDir(), "ferry.db")
	ctx, interrupt := context.WithCancel(t.Context())
	opened := 0
	deepChecks := SQLDeepChecks(func(ctx context.Context) (*sql.DB, error) {
		if opened++; opened == 2 {
			interrupt()
		}
		return sql.Open("sqlite", file)
	})
	results := Prove(ctx, []about.Subject{about.Part("db")}, deepChecks)
	require.Equal(t, 2, opened)
	require.Len(t, results, 1)
	assert.True(t, *results[0].Holds, "%+v", results[0])
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	defer db.Close()
	var tables int
	require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM sqlite_master").Scan(&tables))
	assert.Zero(t, tables)
}

// A deep check has more time than a rung.
func TestDeepChecksHaveTheirTime(t *testing.T) {
	var left time.Duration
	of := []about.Subject{about.Part("db")}
	Prove(t.Context(), of, []kind.DeepCheck{{Name: "stores", Ask: func(ctx context.Context) error {
		end, ok := ctx.Deadline()
		left = time.Until(end)
		if !ok {
			return errors.New("no end")
		}
		return nil
	}}})
	assert.Greater(t, left, 2*Deadline)
}

// A site's deep check fails unless a large upload reaches the runtime whole.
func TestUploads(t *testing.T) {
	answer := func(sum string, status int) func(w http.ResponseWriter, r *http.Request) {
		return func(w http.ResponseWriter, r *http.Request) {
			body, _ := io.ReadAll(r.Body)
			real := fmt.Sprintf("%x", sha256.Sum256(body))
			assert.Equal(t, http.MethodPost, r.Method)
			assert.Equal(t, kind.ProbePath, r.URL.Path)
			assert.Equal(t, "token", r.Header.Get(kind.ProbeHeader))
			assert.Len(t, body, 3<<20, "more than servers take when nobody tells them otherwise")
			w.WriteHeader(status)
			_, _ = fmt.Fprintf(w, `{"upload": %q}`, strings.ReplaceAll(sum, "real", real))
		}
	}
	site := gatewayFor(t, "right", "abc", "ferry", answer("real", 200))
	assert.Nil(t, SiteDeepChecks(site), "a site without a probe takes no upload that could be told")
	site.Maker = probed{}
	deepChecks := SiteDeepChecks(site)
	require.Len(t, deepChecks, 1)
	assert.Equal(t, "uploads", deepChecks[0].Name)
	assert.NoError(t, deepChecks[0].Ask(t.Context()))

	site = gatewayFor(t, "right", "abc", "ferry", answer("another", 200))
	site.Maker = probed{}
	assert.EqualError(t, SiteDeepChecks(site)[0].Ask(t.Context()),
		"expected an upload of 3 MB arriving whole, got status 200, and a different answer")
	site = gatewayFor(t, "right", "abc", "ferry", func(w http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body) // else the connection may be reset before the answer is read
		http.Error(w, "too large", http.StatusRequestEntityTooLarge)
	})
	site.Maker = probed{}
	assert.ErrorContains(t, SiteDeepChecks(site)[0].Ask(t.Context()), "status 413")
	site.HTTPPort = 1
	assert.ErrorContains(t, SiteDeepChecks(site)[0].Ask(t.Context()), "expected an answer, got connection refused")
}

// A deep check fails if a second connection reads something else than was written, and if its table stays.
func TestSQLDeepChecks(t *testing.T) {
	first, second := filepath.Join(t.TempDir(), "one.db"), filepath.Join(t.TempDir(), "two.db")
	opened := 0
	err := SQLDeepChecks(func(context.Context) (*sql.DB, error) {
		opened++
		return sql.Open("sqlite", map[int]string{1: first, 2: second}[opened])
	})[0].Ask(t.Context())
	assert.ErrorContains(t, err, "no such table", "the second connection sees another database")
	lost := errors.New("no connection")
	err = SQLDeepChecks(func(context.Context) (*sql.DB, error) { return nil, lost })[0].Ask(t.Context())
	assert.ErrorIs(t, err, lost)
}
