package mail

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapclient"

	"readyferry/connect"
	"readyferry/core/flow"
	"readyferry/core/records"
)

// What one commit takes at most.
const (
	batchMails = 16
	batchBytes = 2 << 20
)

// intake is what an intake says.
type intake struct {
	folder, take, then, to, begin string
	every                         time.Duration
}

func readIntake(s connect.Settings) (in intake, err error) {
	text := func(name, usual string) string {
		if s != nil {
			if n := s.Get(name); n != nil && n.Text != "" {
				return n.Text
			}
		}
		return usual
	}
	in = intake{folder: text("folder", "INBOX"), take: text("take", "mail"), then: text("then", "seen"), to: text("to",
		"Done"),
		begin: text("begin", "all")}
	if in.every, err = flow.Duration(text("every", "1m")); err == nil && in.every < time.Second {
		err = errors.New("every: mails are looked for at most once a second")
	}
	if in.then == "move" && in.to == in.folder {
		err = errors.New("to: mails are moved into another folder than the one that they are taken from")
	}
	return in, err
}

// place is where an intake stands in a folder: mails have rising numbers as long as the
// validity stays the same (RFC 9051, 2.3.1.1).
type place struct {
	Validity uint32   `json:"validity"`
	UID      imap.UID `json:"uid"`
}

// taking takes the mails of one intake.
type taking struct {
	in      intake
	box     *box
	at      place
	keeps   bool              // the place is kept; else all that is in the folder is taken
	alone   map[imap.UID]bool // mails that are left where they are
	take    func(context.Context, []connect.Arrival) ([]connect.Taken, error)
	trouble func(error)
}

// Receive implements connect.Receiver.
func (l *link) Receive(ctx context.Context, settings connect.Settings, mark []byte,
	take func(context.Context, []connect.Arrival) ([]connect.Taken, error)) error {
	in, err := readIntake(settings)
	if err != nil {
		return err
	}
	b, err := l.open(ctx, nil)
	if err != nil {
		return err
	}
	defer b.end()
	stop := context.AfterFunc(ctx, func() { _ = b.conn.Close() })
	defer stop()
	t := &taking{in: in, box: b, keeps: in.then == "seen", alone: map[imap.UID]bool{}, take: take,
		trouble: func(err error) { connect.TellTrouble(ctx, err) }}
	if err := t.begin(ctx, mark); err != nil {
		return ended(ctx, err)
	}
	connect.TellReady(ctx)
	for {
		if err := t.once(ctx); err != nil {
			return ended(ctx, err)
		}
		if err := t.wait(ctx); err != nil {
			return ended(ctx, err)
		}
	}
}

func ended(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

// begin selects the folder and finds the place in it.
func (t *taking) begin(ctx context.Context, mark []byte) error {
	var is *imap.SelectData
	if err := t.box.within(ctx, func() (err error) {
		is, err = t.box.Select(t.in.folder, nil).Wait()
		return err
	}); err != nil {
		return fmt.Errorf("looking into the folder %s: %w", t.in.folder, said(err))
	}
	known := len(mark) > 0 && json.Unmarshal(mark, &t.at) == nil
	switch {
	case t.at.Validity == is.UIDValidity && known:
	case known || t.in.begin == "all": // the server has numbered anew: what is stored is told by its ID
		t.at = place{Validity: is.UIDValidity}
	default:
		t.at = place{Validity: is.UIDValidity, UID: max(is.UIDNext, 1) - 1}
	}
	if t.in.then == "move" {
		if err := t.box.makes(ctx, t.in.to); err != nil {
			return fmt.Errorf("making the folder %s: %w", t.in.to, said(err))
		}
	}
	return nil
}

// once takes what is there.
func (t *taking) once(ctx context.Context) error {
	all, err := t.look(ctx)
	if err != nil {
		return err
	}
	connect.TellBehind(ctx, int64(len(all)))
	for len(all) > 0 {
		n, err := t.some(ctx, all)
		if err != nil {
			return err
		}
		all = all[n:]
		connect.TellBehind(ctx, int64(len(all)))
	}
	return nil
}

// look lists the numbers of the mails that are to be taken.
func (t *taking) look(ctx context.Context) ([]imap.UID, error) {
	from := imap.UID(1)
	if t.keeps {
		from = t.at.UID + 1
	}
	var all []imap.UID
	err := t.box.within(ctx, func() error {
		var from = imap.UIDSet{imap.UIDRange{Start: from, Stop: 0}}
		found, err := t.box.UIDSearch(&imap.SearchCriteria{UID: []imap.UIDSet{from},
			NotFlag: []imap.Flag{imap.FlagDeleted}}, nil).Wait()
		if err == nil {
			all = found.AllUIDs()
		}
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("looking into the folder %s: %w", t.in.folder, said(err))
	}
	// n:* always names the last one, however low its number is.
	all = slices.DeleteFunc(all, func(u imap.UID) bool { return u < from || t.alone[u] })
	slices.Sort(all)
	return all, nil
}

// some takes the first mails of a list, and tells how many are done.
func (t *taking) some(ctx context.Context, all []imap.UID) (n int, err error) {
	var batch []connect.Arrival
	var taken imap.UIDSet
	size, last := 0, imap.UID(0)
	heads, err := t.heads(ctx, all[:min(len(all), batchMails)])
	if err != nil {
		return 0, err
	}
	for ; n < len(heads) && size < batchBytes; n++ {
		last = heads[n].UID
		if heads[n].RFC822Size > records.Largest {
			t.alone[last] = true
			t.trouble(fmt.Errorf("the mail %d in %s is left alone: it has %d bytes; a message has at most %d", last, t.in.folder,
				heads[n].RFC822Size, records.Largest))
			continue
		}
		raw, err := t.read(ctx, last)
		if err != nil {
			return n, err
		}
		if raw == nil {
			continue // somebody has taken it away
		}
		batch = append(batch, t.in.arrivals(heads[n], t.at.Validity, raw)...)
		taken.AddNum(last)
		size += len(raw)
	}
	if n < len(all) && n == len(heads) && len(heads) < min(len(all), batchMails) {
		n = min(len(all), batchMails) // some have gone meanwhile
		last = all[n-1]
	}
	if len(batch) == 0 {
		return n, nil
	}
	if t.keeps {
		t.at.UID = last
		if batch[len(batch)-1].Mark, err = json.Marshal(t.at); err != nil {
			return n, err
		}
	}
	if _, err := t.take(ctx, batch); err != nil {
		return n, err
	}
	return n, t.done(ctx, taken)
}

// heads reads what stands beside mails, in the order of their numbers.
func (t *taking) heads(ctx context.Context, all []imap.UID) (out []*imapclient.FetchMessageBuffer, err error) {
	err = t.box.within(ctx, func() (err error) {
		out, err = t.box.Fetch(imap.UIDSetNum(all...), &imap.FetchOptions{UID: true, RFC822Size: true,
			InternalDate: true}).Collect()
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("reading mails of %s: %w", t.in.folder, said(err))
	}
	out = slices.DeleteFunc(out, func(h *imapclient.FetchMessageBuffer) bool { return !slices.Contains(all, h.UID) })
	slices.SortFunc(out, func(a, b *imapclient.FetchMessageBuffer) int { return int(a.UID) - int(b.UID) })
	return slices.CompactFunc(out, func(a, b *imapclient.FetchMessageBuffer) bool { return a.UID == b.UID }), nil
}

// read reads a whole mail, without marking it; nil when it is not there any more.
func (t *taking) read(ctx context.Context, uid imap.UID) (raw []byte, err error) {
	whole := &imap.FetchItemBodySection{Peek: true}
	err = t.box.within(ctx, func() error {
		list, err := t.box.Fetch(imap.UIDSetNum(uid), &imap.FetchOptions{UID: true,
			BodySection: []*imap.FetchItemBodySection{whole}}).Collect()
		for _, m := range list {
			if m.UID == uid {
				raw = m.FindBodySection(whole)
			}
		}
		return err
	})
	if err != nil {
		err = fmt.Errorf("reading the mail %d of %s: %w", uid, t.in.folder, said(err))
	}
	return raw, err
}

// done marks, moves or removes mails that are stored.
func (t *taking) done(ctx context.Context, taken imap.UIDSet) error {
	err := t.box.within(ctx, func() error {
		flag := func(f imap.Flag) error {
			return t.box.Store(taken, &imap.StoreFlags{Op: imap.StoreFlagsAdd, Silent: true, Flags: []imap.Flag{f}}, nil).Close()
		}
		switch t.in.then {
		case "move":
			_, err := t.box.Move(taken, t.in.to).Wait()
			return err
		case "remove":
			if err := flag(imap.FlagDeleted); err != nil {
				return err
			}
			if t.box.Caps().Has(imap.CapUIDPlus) {
				return t.box.UIDExpunge(taken).Close()
			}
			return t.box.Expunge().Close()
		}
		return flag(imap.FlagSeen)
	})
	if err != nil {
		return fmt.Errorf("what is stored could not be marked, moved or removed in %s: %w", t.in.folder, said(err))
	}
	return nil
}

// wait waits until there may be more.
func (t *taking) wait(ctx context.Context) error {
	timer := time.NewTimer(t.in.every)
	defer timer.Stop()
	var idle *imapclient.IdleCommand
	if t.box.Caps().Has(imap.CapIdle) {
		if err := t.box.within(ctx, func() (err error) { idle, err = t.box.Idle(); return err }); err != nil {
			return said(err)
		}
	}
	select {
	case <-ctx.Done():
	case <-timer.C:
	case <-t.box.news:
	case <-t.box.Closed():
		return errors.New("the server broke off")
	}
	return t.box.within(ctx, func() error {
		if idle == nil {
			return t.box.Noop().Wait() // so that a server sees that somebody is there
		}
		return errors.Join(idle.Close(), idle.Wait())
	})
}
