package nats

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"

	"dravit/internal/health"
	"dravit/internal/kind"
)

// Ladder ends with a message that is published and received.
func (nats) Ladder(p kind.Part) []kind.Rung {
	lower, shared := health.LowerRungs(p, "tcp", p.Address())
	var s *session // greets logs in, works continues with it
	return append(lower,
		kind.Rung{
			Name: kind.Greets,
			Ask: func(ctx context.Context) (err error) {
				s, err = open(ctx, shared.Take, p.Password)
				return err
			},
			After: func() {
				if s != nil {
					s.conn.Close()
				}
			},
		},
		kind.Rung{Name: kind.Works, Ask: func(ctx context.Context) error {
			s.until(ctx)
			want := rand.Text()
			if err := s.publish(s.inbox, []byte(want)); err != nil {
				return err
			}
			got, err := s.next()
			if err == nil && string(got) != want {
				err = &kind.Miss{Expected: "the message published, " + want, Got: fmt.Sprintf("%.100q", got)}
			}
			return err
		}})
}

// DeepChecks check that the broker keeps messages: one connection reads what another stored.
func (nats) DeepChecks(p kind.Part) []kind.DeepCheck {
	return []kind.DeepCheck{{Name: "stores", Ask: func(ctx context.Context) error {
		name := "dravit-proof-" + rand.Text()
		stored := inSession(ctx, p, func(s *session) error {
			var made, kept struct{}
			stream := map[string]any{"name": name, "subjects": []string{name}, "storage": "file"}
			if err := s.request("$JS.API.STREAM.CREATE."+name, stream, &made); err != nil {
				return err
			}
			return s.request(name, name, &kept)
		})
		// Delete the stream even if the caller stops waiting.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), health.Deadline)
		defer cancel()
		return cmp.Or(stored, inSession(ctx, p, func(s *session) error {
			var got struct {
				Message struct{ Data []byte }
			}
			err := s.request("$JS.API.STREAM.MSG.GET."+name, map[string]int{"seq": 1}, &got)
			if want := fmt.Sprintf("%q", name); err == nil && string(got.Message.Data) != want {
				err = &kind.Miss{Expected: "the message that another connection stored", Got: string(got.Message.Data)}
			}
			var gone struct{}
			return cmp.Or(err, s.request("$JS.API.STREAM.DELETE."+name, struct{}{}, &gone))
		}))
	}}}
}

// inSession does something over a connection of its own.
func inSession(ctx context.Context, p kind.Part, do func(*session) error) error {
	s, err := open(ctx, health.Dial("tcp", p.Address()), p.Password)
	if err != nil {
		return err
	}
	defer s.conn.Close()
	return do(s)
}
