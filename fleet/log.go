package fleet

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
	"strconv"
	"time"
)

// journal is the log of a partition as a member sees it.
type journal struct {
	*link
	part     int
	replicas int
	ctx      context.Context // of the lead: what waits for the log is given up with it
	place    func(at int64)  // hears how far the log is
	gone     func(error)     // hears why it takes nothing from this member any more
	acked    func()          // hears that a majority has kept something
	waits    func()          // hears that it is asked to
}

// streamOf names the stream of a partition's log.
func streamOf(part int) string {
	if part == 0 {
		return "journal"
	}
	return fmt.Sprintf("journal-%d", part)
}

// beatOf gives the subject at which members say how they are in a partition.
func beatOf(part int) string {
	if part == 0 {
		return "fleet.beat"
	}
	return fmt.Sprintf("fleet.beat.%d", part)
}

// The headers of what is in the log.
const (
	headKind = "Kind" // takes or commit
	headID   = "Id"   // of a try to append
	headPart = "Part" // "2/3" of a record in parts
)

const (
	kindTakes  = "takes"
	kindCommit = "commit"
)

// takes is what a member writes into the log that leads from there on.
type takes struct {
	Member string `json:"member"`
	Log    string `json:"log"`   // the id of the log; the first one gives it
	Empty  bool   `json:"empty"` // of the first: the log begins with an empty file, not with one that was adopted
}

// entry is what stands in the log at a place.
type entry struct {
	at   int64
	head nats.Header
	data []byte
}

// make makes the stream, where it is not there.
func (j *journal) make(ctx context.Context) error {
	_, err := j.js.CreateStream(
		ctx,
		jetstream.StreamConfig{Name: streamOf(j.part), Subjects: []string{streamOf(j.part) + ".>"},
			Replicas: j.replicas,
			Storage:  jetstream.FileStorage, AllowDirect: true, Duplicates: 2 * time.Minute, MaxMsgSize: MostRecord + 1<<20},
	)
	if errors.Is(err, jetstream.ErrStreamNameAlreadyInUse) {
		err = nil
	}
	return err
}

// ErrFenced tells that another member leads.
var ErrFenced = errors.New("another member leads now")

// ErrCutOff tells that a majority of the members is not reached, so that nothing can be kept.
var ErrCutOff = errors.New("this member is cut off from the majority of the fleet")

// How long a try to append may take, and all of them: the members may have to choose first who leads the
// stream.
const (
	tryFor  = time.Second
	giveUp  = 25 * time.Second
	between = 50 * time.Millisecond
)

// Append implements store.Log.
func (j *journal) Append(behind int64, record []byte) (int64, error) {
	at, err := j.appendAll(j.ctx, behind, kindCommit, record)
	if err != nil && j.gone != nil {
		j.gone(err)
	}
	return at, err
}

func (j *journal) appendAll(ctx context.Context, behind int64, kind string, record []byte) (at int64, err error) {
	of := (len(record) + MostRecord - 1) / MostRecord
	for i := range max(of, 1) {
		m := &nats.Msg{
			Subject: streamOf(j.part) + ".record",
			Data:    record[i*MostRecord : min(len(record), (i+1)*MostRecord)],
			Header:  nats.Header{headKind: {kind}, headID: {rand.Text()}},
		}
		if of > 1 {
			m.Header.Set(headPart, fmt.Sprintf("%d/%d", i+1, of))
		}
		if behind, err = j.append(ctx, behind, m); err != nil {
			return 0, err
		}
	}
	if j.place != nil {
		j.place(behind)
	}
	return behind, nil
}

// append keeps one message behind a place. What came of a try of which nothing is heard is looked up in
// the log: it is there, something else is there, or it is tried again.
func (j *journal) append(ctx context.Context, behind int64, m *nats.Msg) (int64, error) {
	ctx, stop := context.WithTimeout(ctx, giveUp)
	defer stop()
	id := m.Header.Get(headID)
	if j.waits != nil {
		j.waits()
	}
	var last error
	for doubt := false; ; doubt = true {
		one, end := context.WithTimeout(ctx, tryFor)
		ack, err := j.js.PublishMsg(one, m, jetstream.WithExpectLastSequence(uint64(behind)),
			jetstream.WithRetryAttempts(0))
		end()
		if err == nil && ack.Sequence == uint64(behind)+1 {
			if j.acked != nil {
				j.acked()
			}
			return behind + 1, nil
		}
		if err == nil {
			return 0, fmt.Errorf("%w: the log is at %d, and not at %d", ErrFenced, ack.Sequence, behind+1)
		}
		last = err
		if isWrongLast(err) || doubt {
			there, err := j.entryAt(ctx, behind+1)
			switch {
			case err == nil && there.head.Get(headID) == id:
				return behind + 1, nil
			case err == nil:
				return 0, ErrFenced
			}
		}
		select {
		case <-ctx.Done():
			return 0, fmt.Errorf("%w: %w", ErrCutOff, last)
		case <-time.After(between):
		}
	}
}

// isWrongLast tells of the answer that the log's last message is another than was thought.
func isWrongLast(err error) bool {
	var api *jetstream.APIError
	return errors.As(err, &api) && (api.ErrorCode == jetstream.JSErrCodeStreamWrongLastSequence ||
		api.ErrorCode == 10164)
}

// entryAt reads what stands at a place, from whoever leads the stream.
func (j *journal) entryAt(ctx context.Context, at int64) (*entry, error) {
	one, stop := context.WithTimeout(ctx, tryFor)
	defer stop()
	b, err := json.Marshal(map[string]int64{"seq": at})
	if err != nil {
		return nil, err
	}
	res, err := j.conn.RequestWithContext(one, "$JS.API.STREAM.MSG.GET."+streamOf(j.part), b)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", errNoLog, err)
	}
	var out struct {
		Message *struct {
			Seq  int64  `json:"seq"`
			Hdrs []byte `json:"hdrs"`
			Data []byte `json:"data"`
		} `json:"message"`
		Error *struct {
			Description string `json:"description"`
		} `json:"error"`
	}
	if err := json.Unmarshal(res.Data, &out); err != nil {
		return nil, err
	}
	if out.Message == nil {
		return nil, fmt.Errorf("nothing stands at %d: %s", at, out.Error.Description)
	}
	head, err := nats.DecodeHeadersMsg(out.Message.Hdrs)
	return &entry{out.Message.Seq, head, out.Message.Data}, err
}

// end gives the numbers of the first and the last in the log, as whoever leads the stream has them.
func (j *journal) end(ctx context.Context) (first, last int64, err error) {
	one, stop := context.WithTimeout(ctx, tryFor)
	defer stop()
	s, err := j.js.Stream(one, streamOf(j.part))
	if err != nil {
		return 0, 0, fmt.Errorf("%w: %w", errNoLog, err)
	}
	state := s.CachedInfo().State
	return int64(state.FirstSeq), int64(state.LastSeq), nil
}

// readAtOnce is how many entries are asked for at once, and their bytes.
const (
	readAtOnce = 500
	readBytes  = 8 << 20
)

// reader reads the log for one member. It has one place for answers, which are told apart by a number.
type reader struct {
	*link
	stream  string
	sub     *nats.Subscription
	answers chan *nats.Msg
	inbox   string
	asked   int
	replica bool      // this member keeps one
	far     time.Time // when the others were asked last
}

func (l *link) reader(part int) (*reader, error) {
	r := &reader{link: l, stream: streamOf(part), answers: make(chan *nats.Msg, 2*readAtOnce), inbox: nats.NewInbox()}
	var err error
	r.sub, err = l.conn.ChanSubscribe(r.inbox+".*", r.answers)
	return r, err
}

func (r *reader) close() { _ = r.sub.Unsubscribe() }

// page is what a member was given of the log.
type page struct {
	entries []entry
	more    bool // there is more at once
	gap     bool // what is asked for is not kept any more
}

// read gives what stands behind a place, as this member has it or, where that is nothing, some member that may be
// behind: nothing may mean that there is nothing, or that it is not there yet.
func (r *reader) read(ctx context.Context, behind int64) (page, error) {
	if out := r.here(behind); len(out.entries) > 0 || r.replica && time.Since(r.far) < farEach {
		return out, nil
	}
	r.far = time.Now()
	return r.ask(ctx, behind)
}

// ask has one of the members that keep a replica say what stands behind a place.
func (r *reader) ask(ctx context.Context, behind int64) (out page, err error) {
	ctx, stop := context.WithTimeout(ctx, tryFor)
	defer stop()
	r.asked++
	inbox := fmt.Sprintf("%s.%d", r.inbox, r.asked)
	ask := fmt.Sprintf(`{"seq":%d,"batch":%d,"max_bytes":%d}`, behind+1, readAtOnce, readBytes)
	if err := r.conn.PublishRequest("$JS.API.DIRECT.GET."+r.stream, inbox, []byte(ask)); err != nil {
		return out, err
	}
	for {
		var m *nats.Msg
		select {
		case m = <-r.answers:
		case <-ctx.Done():
			if len(out.entries) > 0 {
				return out, nil
			}
			return out, fmt.Errorf("%w: %w", errNoLog, ctx.Err())
		}
		if m.Subject != inbox {
			continue // of what was asked before, and not waited for
		}
		if status := m.Header.Get("Status"); status != "" {
			pending, _ := strconv.Atoi(m.Header.Get("Nats-Num-Pending"))
			out.more = pending > 0 && len(out.entries) > 0
			return out, statusOf(status, m.Header.Get("Description"))
		}
		at, err := strconv.ParseInt(m.Header.Get("Nats-Sequence"), 10, 64)
		if err != nil {
			return out, fmt.Errorf("the log answers without a number: %w", err)
		}
		if at != behind+int64(len(out.entries))+1 {
			out.gap = len(out.entries) == 0
			return out, nil
		}
		out.entries = append(out.entries, entry{at, m.Header, m.Data})
	}
}

// statusOf says what the end of an answer means.
func statusOf(status, words string) error {
	switch status {
	case "204", "404": // the end, or nothing there
		return nil
	case "503":
		return errNoLog
	}
	return fmt.Errorf("the log answers %s %s", status, words)
}
