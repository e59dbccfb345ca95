package kind

import (
	"context"
	"time"
)

// Mail is one message that a stack's mail catcher has.
type Mail struct {
	ID      string    `json:"id"`
	At      time.Time `json:"at"`
	From    string    `json:"from"`
	To      []string  `json:"to"`
	Subject string    `json:"subject"`
	Bytes   int64     `json:"size_bytes"`
	Text    string    `json:"text,omitempty"`
	HTML    string    `json:"html,omitempty"`
	Files   []string  `json:"attachments,omitempty"` // their names
}

// Inbox is a store that catches mail.
type Inbox interface {
	Store
	// Mails returns the messages, the newest first, without their texts.
	Mails(ctx context.Context, p Part) ([]Mail, error)
	// Mail returns one message with its texts.
	Mail(ctx context.Context, p Part, id string) (Mail, error)
}
