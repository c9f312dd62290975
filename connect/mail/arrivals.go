package mail

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"readyferry/connect"
	jsonfmt "readyferry/core/format/json"
	coremail "readyferry/core/mail"
	"readyferry/core/message"
	"readyferry/core/records"
)

// arrivals makes the messages of a mail.
func (in *intake) arrivals(h *imapclient.FetchMessageBuffer, validity uint32, raw []byte) []connect.Arrival {
	id := fmt.Sprintf("%s/%d.%d", in.folder, validity, h.UID)
	m, err := coremail.Read(raw)
	if err != nil {
		return []connect.Arrival{{ID: id, Body: raw, Refused: err.Error(), Headers: []message.Header{
			{Name: "content-type", Value: "message/rfc822"}, {Name: HeaderFolder, Value: connect.HeaderText(in.folder)}}}}
	}
	if m.ID != "" && !h.InternalDate.IsZero() {
		id = fmt.Sprintf("%s/%s@%d", in.folder, m.ID, h.InternalDate.Unix())
	}
	headers := headersOf(m, in.folder)
	one := func(id, kind string, body []byte, more ...message.Header) connect.Arrival {
		return connect.Arrival{ID: id, Body: body,
			Headers: slices.Concat([]message.Header{{Name: "content-type", Value: connect.HeaderText(kind)}}, headers, more)}
	}
	switch in.take {
	case "text":
		if m.Text == "" && m.HTML != "" {
			return []connect.Arrival{one(id, "text/html; charset=utf-8", []byte(m.HTML))}
		}
		return []connect.Arrival{one(id, "text/plain; charset=utf-8", []byte(m.Text))}
	case "attachments":
		if len(m.Attachments) == 0 {
			a := one(id, "message/rfc822", raw)
			a.Refused = "the mail has no attachment"
			return []connect.Arrival{a}
		}
		var out []connect.Arrival
		for i, file := range m.Attachments {
			out = append(out, one(fmt.Sprintf("%s#%d", id, i+1), file.Type, file.Body,
				message.Header{Name: HeaderFile, Value: connect.HeaderText(file.Name)}))
		}
		return out
	}
	return []connect.Arrival{one(id, "application/json", jsonfmt.Encode(m.Tree()))}
}

// headersOf are what flows see of a mail beside its body.
func headersOf(m *coremail.Mail, folder string) (out []message.Header) {
	add := func(name, value string) {
		if value != "" {
			out = append(out, message.Header{Name: name, Value: connect.HeaderText(value)})
		}
	}
	list := func(all []coremail.Address) string {
		var out []string
		for _, a := range all {
			out = append(out, a.Address)
		}
		return strings.Join(out, ", ")
	}
	add(HeaderFrom, list(m.From))
	add(HeaderTo, list(m.To))
	add(HeaderSubject, m.Subject)
	if !m.Date.IsZero() {
		add(HeaderDate, m.Date.Format(time.RFC3339))
	}
	add(HeaderID, m.ID)
	if len(m.InReplyTo) > 0 {
		add(HeaderReplyTo, m.InReplyTo[0])
	}
	add(HeaderFolder, folder)
	for _, h := range m.Headers {
		if !own(h.Name) {
			add(strings.ToLower(h.Name), h.Value)
		}
	}
	return out
}

// Peek implements connect.Peeker: the newest mail that fits is read, and stays as it is.
func (l *link) Peek(ctx context.Context, settings connect.Settings) (*connect.Arrival, error) {
	in, err := readIntake(settings)
	if err != nil {
		return nil, err
	}
	b, err := l.open(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer b.end()
	t := &taking{in: in, box: b}
	err = b.within(ctx, func() error {
		is, err := b.Select(in.folder, &imap.SelectOptions{ReadOnly: true}).Wait()
		if err == nil {
			t.at.Validity = is.UIDValidity
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("looking into the folder %s: %w", in.folder, said(err))
	}
	all, err := t.look(ctx)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("no mail is in the folder %s", in.folder)
	}
	heads, err := t.heads(ctx, all[len(all)-1:])
	if err != nil {
		return nil, err
	}
	if len(heads) == 0 || heads[0].RFC822Size > records.Largest {
		return nil, fmt.Errorf("the newest mail in the folder %s is larger than a message may be, or has gone", in.folder)
	}
	raw, err := t.read(ctx, heads[0].UID)
	if err != nil {
		return nil, err
	}
	return &in.arrivals(heads[0], t.at.Validity, raw)[0], nil
}
