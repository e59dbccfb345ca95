package mariadb

import (
	"context"
	"net"
	"strconv"
	"time"

	"dravit/internal/kind"
)

// Sessions asks as the administrator, who has a connection beyond the limit.
func (mariadb) Sessions(
	ctx context.Context,
	p kind.Part,
) (sessions []kind.Session, limit int, setting string, err error) {
	const name = "max_connections"
	admin, err := admin()
	if err != nil {
		return nil, 0, name, err
	}
	db, err := connectAdmin(ctx, p, admin)
	if err != nil {
		return nil, 0, name, err
	}
	defer db.Close()
	if err := db.QueryRowContext(ctx, "SELECT @@max_connections").Scan(&limit); err != nil {
		return nil, 0, name, err
	}
	rows, err := db.QueryContext(
		ctx,
		"SELECT HOST, COMMAND, TIME FROM information_schema.PROCESSLIST WHERE ID <> CONNECTION_ID() "+
			"AND USER <> 'system user'",
	)
	if err != nil {
		return nil, 0, name, err
	}
	defer rows.Close()
	for rows.Next() {
		var host, command string
		var seconds int
		if err := rows.Scan(&host, &command, &seconds); err != nil {
			return nil, 0, name, err
		}
		var s kind.Session
		if _, port, err := net.SplitHostPort(host); err == nil { // over the Unix socket it is just localhost
			s.Port, _ = strconv.Atoi(port)
		}
		if command == "Sleep" {
			s.Idle = time.Duration(seconds) * time.Second
		}
		sessions = append(sessions, s)
	}
	return sessions, limit, name, rows.Err()
}
