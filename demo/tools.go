package demo

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"net/smtp"
	"os"
	"strings"
	"time"

	"dravit/internal/health"
	"dravit/internal/proc"
)

// queue is the list in the cache from which the worker takes mails: the recipient's address, a line end, the message.
const queue = "mails"

// cache returns the address of the stack's cache.
func cache() string { return os.Getenv("REDIS_HOST") + ":" + os.Getenv("REDIS_PORT") }

// Bookings creates the table of bookings with those of data/bookings.csv, in the project's folder: tools/bookings.php
// for a machine without PHP.
func Bookings(ctx context.Context) error {
	text, err := os.ReadFile("data/bookings.csv")
	if err != nil {
		return err
	}
	lines, err := csv.NewReader(bytes.NewReader(text)).ReadAll()
	if err != nil {
		return err
	}
	db, err := open()
	if err != nil {
		return err
	}
	defer db.Close()
	if _, err := db.ExecContext(ctx, "CREATE TABLE bookings (code CHAR(6) PRIMARY KEY, sailing INTEGER NOT NULL, "+
		"name VARCHAR(80) NOT NULL, email VARCHAR(120) NOT NULL, seats INTEGER NOT NULL, made VARCHAR(19) NOT NULL)",
	); err != nil {
		return err
	}
	made := time.Now().AddDate(0, 0, -1).Format("2006-01-02 08:00:00")
	for _, b := range lines {
		if _, err := db.ExecContext(ctx, "INSERT INTO bookings (code, sailing, name, email, seats, made) "+
			"VALUES (?, ?, ?, ?, ?, ?)", b[0], b[1], b[2], b[3], b[4], made); err != nil {
			return err
		}
		fmt.Println(b[0] + " for " + b[2])
	}
	return nil
}

// SendMails sends what the pages have put into the queue, until the context ends: tools/mails.php for a machine without
// PHP.
func SendMails(ctx context.Context) error {
	for ctx.Err() == nil {
		if err := os.WriteFile("tmp/mails", nil, 0o600); err != nil {
			return err
		}
		next, err := health.Redis(ctx, health.Dial("tcp", cache()), os.Getenv("REDIS_PASSWORD"),
			[]string{"RPOP", queue})
		if err != nil {
			return err
		}
		if next[0] == "" {
			_ = proc.Sleep(ctx, 200*time.Millisecond) // interrupted: the loop ends
			continue
		}
		to, message, _ := strings.Cut(next[0], "\n")
		server := os.Getenv("MAIL_HOST") + ":" + os.Getenv("MAIL_PORT")
		err = smtp.SendMail(server, nil, "office@saltmarsh-ferry.example", []string{to}, []byte(message))
		if err != nil {
			return err
		}
	}
	return nil
}
