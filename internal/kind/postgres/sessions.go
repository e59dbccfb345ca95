package postgres

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"dravit/internal/health"
	"dravit/internal/kind"
)

// Sessions asks over the socket as the administrator, for whom the server reserves three connections
// (superuser_reserved_connections). The limit that it returns is without these.
func (postgres) Sessions(
	ctx context.Context,
	p kind.Part,
) (sessions []kind.Session, limit int, setting string, err error) {
	const name = "max_connections"
	admin, err := admin()
	if err != nil {
		return nil, 0, name, err
	}
	db, err := connect(ctx, health.Dial("unix", p.Socket), admin, "", "postgres")
	if err != nil {
		return nil, 0, name, err
	}
	defer db.Close(ctx)
	results, err := db.Exec(
		ctx, `SELECT current_setting('max_connections')::int - current_setting('superuser_reserved_connections')::int;
		SELECT coalesce(client_port, 0),
			CASE WHEN state LIKE 'idle%' THEN extract(epoch FROM now() - state_change)::int ELSE 0 END
		FROM pg_stat_activity WHERE backend_type = 'client backend' AND pid <> pg_backend_pid()`).
		ReadAll()
	if err != nil {
		return nil, 0, name, err
	}
	if len(results) != 2 || len(results[0].Rows) != 1 {
		return nil, 0, name, fmt.Errorf("an unexpected answer")
	}
	limit, _ = strconv.Atoi(string(results[0].Rows[0][0]))
	for _, row := range results[1].Rows {
		port, _ := strconv.Atoi(string(row[0]))
		seconds, _ := strconv.Atoi(string(row[1]))
		sessions = append(sessions, kind.Session{Port: max(0, port), Idle: time.Duration(seconds) * time.Second})
	}
	return sessions, limit, name, nil
}
