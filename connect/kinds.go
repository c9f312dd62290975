package connect

import (
	"context"
	"fmt"
)

// Senders hands each request to the sender for the kind of its connection.
type Senders map[string]Sender

// Send implements Sender.
func (s Senders) Send(ctx context.Context, c *Connection, r Request) (Answer, error) {
	to, ok := s[c.Kind]
	if !ok {
		return Answer{}, fmt.Errorf("%w: nothing can be sent to a connection of kind %s", ErrCannotSend, c.Kind)
	}
	return to.Send(ctx, c, r)
}
