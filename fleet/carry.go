package fleet

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/http"
	"runtime"
	"strconv"
	"strings"
	"sync"

	"github.com/nats-io/nats.go"
)

// Short calls for another member go to it many in one message of the engines, and so do their answers: who hands
// one over takes along what others hand over meanwhile. What is answered together (a commit of the journal does
// that) comes back together, and those who hear it bring their next calls together, so that under load a message
// has a dozen of them.
//
// A message is a number and a text for each: for whom it is, and the call or the answer.

// callsSubject is where a member hears such calls.
func callsSubject(member string) string { return "fleet.calls." + member }

// callSubject is where it hears a call that comes alone.
func callSubject(member string) string { return "fleet.call." + member }

// atOnce is about how many bytes go in one message: there is room for one more call above them.
const atOnce = 1 << 20

// gathered gathers what goes in one message. It is safe for concurrent use.
type gathered struct {
	mu    sync.Mutex
	out   []byte
	count int
	busy  bool // somebody sends
	send  func(out []byte, count int)
}

// add adds a text with the number that number gives, called with the lock held, and sees to its being sent: either
// somebody does already, or whoever adds it does.
func (g *gathered) add(number func() uint64, text []byte) {
	g.mu.Lock()
	g.out = appendBytes(binary.AppendUvarint(g.out, number()), text)
	g.count++
	first := !g.busy
	g.busy = true
	g.mu.Unlock()
	if first {
		g.empty()
	}
}

// empty sends what there is. It lets others run before, as long as they bring more; for what comes behind that
// somebody else goes on, since whoever sends has a call of its own.
func (g *gathered) empty() {
	for had, sent := 0, false; ; {
		runtime.Gosched()
		g.mu.Lock()
		switch {
		case g.count == 0:
			g.busy = false
			g.mu.Unlock()
			return
		case sent:
			g.mu.Unlock()
			go g.empty()
			return
		case g.count > had && len(g.out) < atOnce:
			had = g.count
		default:
			g.send(g.out, g.count)
			g.out, g.count, sent = g.out[:0], 0, true
		}
		g.mu.Unlock()
	}
}

func appendBytes(to, b []byte) []byte { return append(binary.AppendUvarint(to, uint64(len(b))), b...) }

// eachOf gives the numbers and texts of a message.
func eachOf(data []byte, do func(number uint64, text []byte)) error {
	for len(data) > 0 {
		number, n := binary.Uvarint(data)
		size, m := binary.Uvarint(data[max(n, 0):])
		if n <= 0 || m <= 0 || size > uint64(len(data)-n-m) {
			return errors.New("a message between members ends in the middle")
		}
		do(number, data[n+m:n+m+int(size)])
		data = data[n+m+int(size):]
	}
	return nil
}

// carrier hands calls over to one member.
type carrier struct {
	calls gathered
	last  uint64 // number that was given; the lock of calls guards it

	mu    sync.Mutex // is taken behind that of calls
	waits map[uint64]chan carried
}

// carried is what came of a call.
type carried struct {
	said []byte
	err  error
}

// carrierTo gives the one to a member.
func (n *Node) carrierTo(member string) (*carrier, error) {
	n.first.mu.Lock()
	defer n.first.mu.Unlock()
	c := n.first.carriers[member]
	if c != nil {
		return c, nil
	}
	c = &carrier{waits: map[uint64]chan carried{}}
	inbox := nats.NewInbox()
	if _, err := n.link.conn.Subscribe(inbox+".*", c.hears); err != nil {
		return nil, err
	}
	c.calls.send = func(out []byte, count int) { // numbers are given in the order in which they stand in a message
		last, first := c.last, c.last-uint64(count)+1
		err := n.link.conn.PublishMsg(&nats.Msg{Subject: callsSubject(member),
			Reply: fmt.Sprintf("%s.%d-%d", inbox, first, last), Data: out})
		if err != nil {
			c.fail(first, last, err)
		}
	}
	n.first.carriers[member] = c
	return c, nil
}

// call hands a call over, and waits for what is said. nats.ErrNoResponders: nobody has heard of it.
func (c *carrier) call(ctx context.Context, text []byte) ([]byte, error) {
	came := make(chan carried, 1)
	var number uint64
	c.calls.add(func() uint64 {
		c.last++
		number = c.last
		c.mu.Lock()
		c.waits[number] = came
		c.mu.Unlock()
		return number
	}, text)
	select {
	case a := <-came:
		return a.said, a.err
	case <-ctx.Done():
		c.mu.Lock()
		delete(c.waits, number)
		c.mu.Unlock()
		return nil, ctx.Err()
	}
}

func (c *carrier) came(number uint64, what carried) {
	c.mu.Lock()
	to := c.waits[number]
	delete(c.waits, number)
	c.mu.Unlock()
	if to != nil {
		to <- what
	}
}

func (c *carrier) fail(first, last uint64, err error) {
	for number := first; number <= last; number++ {
		c.came(number, carried{err: err})
	}
}

// hears takes answers to those who wait for them.
func (c *carrier) hears(m *nats.Msg) {
	if m.Header.Get("Status") == "503" { // the engines know of nobody who hears such calls
		from, to, _ := strings.Cut(m.Subject[strings.LastIndexByte(m.Subject, '.')+1:], "-")
		first, bad := strconv.ParseUint(from, 10, 64)
		last, worse := strconv.ParseUint(to, 10, 64)
		if bad == nil && worse == nil {
			c.fail(first, last, nats.ErrNoResponders)
		}
		return
	}
	_ = eachOf(m.Data, func(number uint64, text []byte) { c.came(number, carried{said: text}) })
}

// calls answers what other members hand over.
func (n *Node) calls(m *nats.Msg) {
	answers := n.answersTo(m.Reply)
	err := eachOf(m.Data, func(number uint64, text []byte) {
		n.takes(text, func(said []byte) { answers.add(func() uint64 { return number }, said) })
	})
	if err != nil {
		n.Log.Warn("calls of another member", "error", err)
	}
}

// callsOne answers a call that comes alone, as members of the release before this one hand calls over.
func (n *Node) callsOne(m *nats.Msg) {
	n.takes(m.Data, func(said []byte) { _ = m.Respond(said) })
}

// takes answers a call beside others, of which there may be so many.
func (n *Node) takes(text []byte, say func(said []byte)) {
	select {
	case n.short <- struct{}{}:
	default:
		k := &kept{head: http.Header{}}
		refuse(k, http.StatusServiceUnavailable, "Too many calls are under way",
			"nothing was stored; send it again later")
		say(k.asBytes())
		return
	}
	go func() {
		defer func() { <-n.short }()
		say(n.answerShort(text).asBytes())
	}()
}

// answersTo gathers answers for who has sent calls: those of several messages go together.
func (n *Node) answersTo(reply string) *gathered {
	to := reply[:strings.LastIndexByte(reply, '.')+1] + "answers"
	n.mu.Lock()
	defer n.mu.Unlock()
	g := n.answers[to]
	if g == nil {
		g = &gathered{send: func(out []byte, _ int) { _ = n.link.conn.Publish(to, out) }}
		n.answers[to] = g
	}
	return g
}
