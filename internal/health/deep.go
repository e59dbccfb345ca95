package health

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"dravit/internal/about"
	"dravit/internal/kind"
)

// DeepResult is the result of a deep check. Holds is nil if it was not asked.
type DeepResult struct {
	Subject  about.Subject `json:"subject"` // a part or a site
	Check    string        `json:"deed"`
	Holds    *bool         `json:"holds"`
	MS       float64       `json:"ms"`
	Expected string        `json:"expected,omitempty"`
	Got      string        `json:"got,omitempty"`
}

// deepTime is how long one deep check may take.
const deepTime = 30 * time.Second

// Prove asks deep checks side by side. subjects names the part or site of each.
func Prove(ctx context.Context, subjects []about.Subject, deepChecks []kind.DeepCheck) []DeepResult {
	results := make([]DeepResult, len(deepChecks))
	var wg sync.WaitGroup
	for i, d := range deepChecks {
		wg.Go(func() {
			began := time.Now()
			r := climb(ctx, []kind.Rung{{Name: kind.RungName(d.Name), Ask: d.Ask}}, deepTime)[0]
			results[i] = DeepResult{subjects[i], d.Name, r.Holds,
				float64(time.Since(began).Microseconds()) / 1000, r.Expected, r.Got}
		})
	}
	wg.Wait()
	return results
}

// uploadSize is more than servers accept by default (1 and 2 MB).
const uploadSize = 3 << 20

// SiteDeepChecks returns the deep checks of a site whose runtime has a probe: a large upload arrives whole.
func SiteDeepChecks(site Target) []kind.DeepCheck {
	if site.Maker == nil {
		return nil
	}
	return []kind.DeepCheck{{Name: "uploads", Ask: func(ctx context.Context) error {
		token, err := site.Maker.ProbeToken(site.App)
		if err != nil {
			return err
		}
		body := []byte(strings.Repeat(rand.Text(), uploadSize/26+1)[:uploadSize])
		sum := sha256.Sum256(body)
		req, err := http.NewRequestWithContext(ctx, http.MethodPost,
			strings.TrimSuffix(site.URL, "/")+kind.ProbePath, bytes.NewReader(body))
		if err != nil {
			return err
		}
		req.Header.Set(kind.ProbeHeader, token)
		req.Header.Set("Content-Type", "application/octet-stream")
		resp, err := Client(Dial("tcp", kind.Loopback(site.HTTPPort))).Do(req)
		if err != nil {
			return &kind.Miss{Expected: "an answer", Got: Plain(err)}
		}
		defer resp.Body.Close()
		var got struct {
			Took string `json:"upload"`
		}
		if err := json.NewDecoder(resp.Body).Decode(&got); err != nil || got.Took != hex.EncodeToString(sum[:]) {
			return &kind.Miss{
				Expected: fmt.Sprintf("an upload of %d MB arriving whole", uploadSize>>20),
				Got:      fmt.Sprintf("status %d, and a different answer", resp.StatusCode),
			}
		}
		return nil
	}}}
}

// CacheDeepChecks returns the deep checks of a part that speaks Redis' protocol: one connection reads what another
// wrote.
func CacheDeepChecks(p kind.Part) []kind.DeepCheck {
	return []kind.DeepCheck{{Name: "stores", Ask: func(ctx context.Context) error {
		dial := Dial("tcp", p.Address())
		key, value := "dravit:proof:"+rand.Text(), rand.Text()
		if _, err := Redis(ctx, dial, p.Password, []string{"SET", key, value, "EX", "60"}); err != nil {
			return err
		}
		replies, err := Redis(ctx, dial, p.Password, []string{"GET", key}, []string{"DEL", key})
		if err == nil && replies[0] != value {
			err = &kind.Miss{Expected: "the value that another connection wrote", Got: replies[0]}
		}
		return err
	}}}
}

// SQLDeepChecks returns the deep checks of an SQL database: one connection reads rows that another wrote to a new
// table, which is dropped at the end.
func SQLDeepChecks(open func(ctx context.Context) (*sql.DB, error)) []kind.DeepCheck {
	return []kind.DeepCheck{{Name: "stores", Ask: func(ctx context.Context) error {
		table := "dravit_proof_" + rand.Text()
		session := func(ctx context.Context, do func(db *sql.DB) error) error {
			db, err := open(ctx)
			if err != nil {
				return err
			}
			defer db.Close()
			return do(db)
		}
		err := session(ctx, func(db *sql.DB) error {
			_, err := db.ExecContext(ctx, "CREATE TABLE "+table+" AS SELECT 40 AS n UNION ALL SELECT 2")
			return err
		})
		if err != nil {
			return err
		}
		// drop the table even if the caller stops waiting
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), Deadline)
		defer cancel()
		return session(ctx, func(db *sql.DB) error {
			var got int
			err := db.QueryRowContext(ctx, "SELECT SUM(n) FROM "+table).Scan(&got)
			if _, dropErr := db.ExecContext(ctx, "DROP TABLE "+table); err == nil {
				err = dropErr
			}
			if err == nil && got != 42 {
				err = &kind.Miss{Expected: "the rows that another connection wrote", Got: fmt.Sprint(got)}
			}
			return err
		})
	}}}
}
