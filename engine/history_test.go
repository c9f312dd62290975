package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/engine/journal"
	"readyferry/store"
)

// A plain model in memory goes along long histories of random operations: it knows of each
// message what was promised, and at the end looks whether it was kept. The promises are
// numbered as in docs/architecture.md. Time is made up, so that hours take seconds.

// kept is what the model knows of a message.
type kept struct {
	flow    string
	n, k    int
	version int         // promise 7: under which it was accepted
	id      store.ID    // promise 1
	answer  step.Answer // promise 4: what its repeats get
	resent  bool
}

type history struct {
	*world
	random  *rand.Rand
	out     *target
	dir     string
	all     map[int]*kept
	order   []int // as they were accepted
	version int   // of the flow f, that is live
	paused  bool
	letters map[store.ID]bool // promise 8: decided about
	mended  bool
	unread  []store.ID // promise 11
	waiting []chan heard
}

// heard is what a caller who waited was told.
type heard struct {
	n      int
	answer *step.Answer
	err    error
}

const first, capped, tries = time.Second, 8 * time.Second, 4

const planned = "retry: {first: 1s, growth: exponential, factor: 2, cap: 8s, spread: none, tries: 4, within: 1h}"

func versionOf(v int) string {
	return fmt.Sprintf(`readyferry: flow/1
name: f
intake: {kind: webhook, path: /f, format: json, once: string(body.n), once-for: 1000h, order: string(body.k), reference: string(body.n)}
steps:
- {id: m, kind: map, fields: [{to: /n, from: body.n}, {to: /v, from: "%d"}]}
- {id: d, kind: deliver, to: out, path: /f}
`, v)
}

func TestPromisesAreKeptOverLongHistories(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	if n, err := strconv.ParseUint(os.Getenv("READYFERRY_SEED"), 10, 64); err == nil {
		seed = n
	}
	for i := range uint64(2) {
		t.Run(fmt.Sprint(seed+i), func(t *testing.T) { synctest.Test(t, func(t *testing.T) { goThrough(t, seed+i) }) })
	}
}

func goThrough(t *testing.T, seed uint64) {
	h := &history{random: rand.New(rand.NewPCG(seed, 7)), out: &target{}, dir: t.TempDir(), all: map[int]*kept{},
		letters: map[store.ID]bool{}}
	h.out.say(func(_ int, c call) (reply, error) { return h.answers(c) })
	h.world = start(t, h.dir, h.out)
	h.connect("out", planned)
	h.connect("away", planned)
	h.version = 1
	h.publish(versionOf(1))
	h.publish(
		"readyferry: flow/1\nname: r\nintake: {kind: queue, queue: line, in-flight: 2, reference: string(body.n)}\n" +
			"steps: [{id: d, kind: deliver, to: out, path: /r}]\n",
	)
	h.publish("readyferry: flow/1\nname: q\nintake: {kind: webhook, path: /q, reference: string(body.n)}\n" +
		"steps: [{id: p, kind: deliver, to: {queue: line}}]\n")
	h.publish(
		"readyferry: flow/1\nname: w\nintake: {kind: webhook, path: /w, answer: finished, wait: 5s, reference: string(body.n)}\n" +
			"steps: [{id: d, kind: deliver, to: out, path: /w}]\n",
	)
	h.publish("readyferry: flow/1\nname: poll\nintake: {kind: poll, of: away, path: /, each: body, every: 1h}\n" +
		"steps: []\n")
	for range 150 {
		h.step()
		h.looksBounded()
	}
	h.finish()
	h.judge()
}

// answers is the target: what it says follows from the key and how often it has seen it.
func (h *history) answers(c call) (reply, error) {
	if c.to == "away" {
		return reply{Status: 500}, nil
	}
	if h.mended {
		return reply{Status: 200}, nil
	}
	n := 0
	for _, earlier := range h.out.got() {
		if earlier.key == c.key {
			n++
		}
	}
	sum := fnv.New64a()
	fmt.Fprint(sum, c.key, n)
	switch sum.Sum64() % 10 {
	case 0, 1, 2, 3:
		return reply{Status: 503}, nil
	case 4:
		return reply{Status: 400}, nil
	case 5:
		return reply{}, errors.New("connection reset")
	}
	return reply{Status: 200}, nil
}

func (h *history) step() {
	switch dice := h.random.IntN(100); {
	case dice < 35:
		h.sends("f")
	case dice < 50:
		h.sends("q")
	case dice < 58:
		h.waits()
	case dice < 64:
		h.repeats()
	case dice < 68:
		h.unreadable()
	case dice < 74:
		h.version++
		h.publish(versionOf(h.version))
	case dice < 79:
		h.paused = !h.paused
		if err := h.Pause(context.Background(), "f", h.paused, true); err != nil {
			h.t.Error(err)
		}
	case dice < 88:
		h.decides()
	case dice < 92:
		h.restarts()
	default:
		time.Sleep(time.Duration(h.random.IntN(20_000)) * time.Millisecond)
	}
}

// sends sends a new message; a paused flow takes none.
func (h *history) sends(flow string) {
	m := &kept{flow: flow, n: len(h.all) + 1, k: h.random.IntN(3), version: h.version}
	a, err := h.post("/"+flow, fmt.Sprintf(`{"n":%d,"k":%d}`, m.n, m.k))
	if flow == "f" && h.paused {
		var refused *run.RefusedError
		if !errors.As(err, &refused) || refused.Status != 503 {
			h.t.Errorf("a paused flow says %v %v", a, err)
		}
		return
	}
	if err != nil {
		h.t.Fatal(err)
	}
	m.id, m.answer = h.transactionIn(a), *a
	h.all[m.n], h.order = m, append(h.order, m.n)
}

func (h *history) transactionIn(a *step.Answer) store.ID {
	var told struct{ Transaction string }
	if err := json.Unmarshal(a.Body, &told); err != nil {
		h.t.Fatalf("%d %s", a.Status, a.Body)
	}
	return mustID(h.t, told.Transaction)
}

// waits sends a message whose caller waits for its end.
func (h *history) waits() {
	m := &kept{flow: "w", n: len(h.all) + 1}
	h.all[m.n] = m
	told := make(chan heard, 1)
	h.waiting = append(h.waiting, told)
	go func() {
		a, err := h.post("/w", fmt.Sprintf(`{"n":%d}`, m.n))
		told <- heard{m.n, a, err}
	}()
	synctest.Wait()
}

// repeats sends a message again that was accepted: promise 4.
func (h *history) repeats() {
	var of []*kept
	for _, n := range h.order {
		if h.all[n].flow == "f" {
			of = append(of, h.all[n])
		}
	}
	if len(of) == 0 || h.paused {
		return
	}
	m := of[h.random.IntN(len(of))]
	a, err := h.post("/f", fmt.Sprintf(`{"n":%d,"k":%d}`, m.n, m.k))
	if err != nil {
		h.t.Fatal(err)
	}
	if tx, _ := h.store.Transaction(m.id); tx.State == store.TurnedAway { // somebody discarded it: it is taken in anew
		m.id, m.answer, m.version, m.resent = h.transactionIn(a), *a, h.version, true
		return
	}
	if h.transactionIn(a) != m.id {
		h.t.Errorf("%d was answered %s, and its repeat %s", m.n, m.answer.Body, a.Body)
	}
}

// unreadable sends what is no JSON: promise 11.
func (h *history) unreadable() {
	if h.paused {
		return
	}
	_, err := h.post("/f", fmt.Sprintf(`{"n":%d`, h.random.IntN(1000)))
	var refused *run.RefusedError
	if !errors.As(err, &refused) || refused.Status != 400 {
		h.t.Fatalf("what cannot be read: %v", err)
	}
	at := strings.LastIndex(refused.Detail, "transaction ")
	if at < 0 {
		h.t.Fatalf("it leaves no trace: %s", refused.Detail)
	}
	h.unread = append(h.unread, mustID(h.t, refused.Detail[at+len("transaction "):]))
}

// decides sends a dead letter again, or discards it. The preview changes nothing: promise 10.
func (h *history) decides() {
	open, err := h.store.OpenLetters("", "", nil, 50)
	if err != nil {
		h.t.Fatal(err)
	}
	if len(open) == 0 {
		return
	}
	l := open[h.random.IntN(len(open))]
	version := []string{"own", "live"}[h.random.IntN(2)]
	d := journal.Decision{IDs: []store.ID{l.ID}, Version: version, Why: "the model says so"}
	before, _ := h.store.Transaction(l.Tx)
	if _, err := h.Preview(d); err != nil {
		h.t.Error(err)
	}
	if after, _ := h.store.Transaction(l.Tx); after.Revision != before.Revision || after.State != before.State {
		h.t.Error("a preview has changed something")
	}
	h.letters[l.ID] = true
	for _, m := range h.all {
		if m.id == l.Tx {
			m.resent = true
		}
	}
	if h.random.IntN(4) == 0 {
		err = h.Discard(context.Background(), d)
	} else {
		_, err = h.Resend(context.Background(), d)
	}
	if err != nil {
		h.t.Error(err)
	}
}

// restarts stops the application and starts it again. Who waits is told: promise 14.
func (h *history) restarts() {
	h.Engine.Close()
	synctest.Wait()
	h.hear(true)
	h.close()
	h.world = start(h.t, h.dir, h.out)
}

// hear listens to callers who waited; stopping tells that all of them must have been told.
func (h *history) hear(stopping bool) {
	left := h.waiting[:0]
	for _, told := range h.waiting {
		select {
		case a := <-told:
			h.told(a)
		default:
			if stopping {
				h.t.Error("a caller waits although the application stops")
			}
			left = append(left, told)
		}
	}
	h.waiting = left
}

// told judges what a caller heard: 200 behind the end alone, 202 or 503 with the
// transaction, or what went wrong.
func (h *history) told(a heard) {
	m := h.all[a.n]
	var refused *run.RefusedError
	switch {
	case errors.As(a.err, &refused):
		if at := strings.Index(refused.Detail, "transaction "); at >= 0 {
			m.id = mustID(h.t, refused.Detail[at+12:][:36])
		}
	case a.err != nil:
		h.t.Errorf("%d: %v", a.n, a.err)
	case a.answer.Status == 200 || a.answer.Status == 202 || a.answer.Status >= 500:
		rows, err := h.store.Transactions(store.Filter{Flow: "w", Reference: strconv.Itoa(a.n), Limit: 2})
		if err != nil || len(rows) != 1 {
			h.t.Fatalf("%d: %d transactions, %v", a.n, len(rows), err)
		}
		if m.id = rows[0].ID; a.answer.Status == 200 && rows[0].State != store.Delivered {
			h.t.Errorf("%d was told 200, and is %s", a.n, rows[0].State)
		}
	default:
		h.t.Errorf("%d: %d %s", a.n, a.answer.Status, a.answer.Body)
	}
}

// looksBounded looks whether more is in memory than may be: promise 9.
func (h *history) looksBounded() {
	for _, held := range h.Engine.Held() {
		if held.N > held.Most || held.N < 0 {
			h.t.Errorf("%d %s are held, and %d may be", held.N, held.What, held.Most)
		}
	}
}

// finish lets everything come to its end.
func (h *history) finish() {
	if h.paused {
		if err := h.Pause(context.Background(), "f", false, true); err != nil {
			h.t.Error(err)
		}
	}
	time.Sleep(2 * time.Minute)
	synctest.Wait()
	h.hear(false)
	h.lettersStay()
	h.mended = true
	for range 20 {
		open, err := h.store.OpenLetters("", "", nil, 1000)
		if err != nil {
			h.t.Fatal(err)
		}
		if len(open) == 0 {
			break
		}
		var ids []store.ID
		for _, l := range open {
			ids = append(ids, l.ID)
			for _, m := range h.all {
				if m.id == l.Tx {
					m.resent = true
				}
			}
		}
		if _, err := h.Resend(context.Background(), journal.Decision{IDs: ids, Version: "own"}); err != nil {
			h.t.Fatal(err)
		}
		time.Sleep(time.Minute)
		synctest.Wait()
	}
}

// lettersStay looks whether only those letters are settled that somebody decided about, and
// whether each says why: promises 3 and 8.
func (h *history) lettersStay() {
	for _, m := range h.all {
		letters, err := h.store.LettersOf(m.id)
		if err != nil {
			h.t.Fatal(err)
		}
		for _, l := range letters {
			if l.State != store.LetterOpen && !h.letters[l.ID] {
				h.t.Errorf("the letter of %d is %s, and nobody has decided", m.n, l.State)
			}
			if l.Reason == "" {
				h.t.Errorf("the letter of %d says nothing", m.n)
			}
		}
	}
}

// judge looks whether everything was kept.
func (h *history) judge() {
	for _, m := range h.all {
		tx, err := h.store.Transaction(m.id)
		if err != nil { // promise 1
			h.t.Errorf("%s %d was accepted, and is gone: %v", m.flow, m.n, err)
			continue
		}
		away := tx.State == store.TurnedAway
		if tx.State != store.Delivered && !away || away && tx.Reason == "" { // promise 3
			h.t.Errorf("%s %d is %s: %q", m.flow, m.n, tx.State, tx.Reason)
		}
		if m.flow == "f" && !m.resent && tx.Version != m.version { // promise 7
			h.t.Errorf("%d came under version %d, and is of %d", m.n, m.version, tx.Version)
		}
	}
	for _, id := range h.unread { // promise 11
		if m, err := h.store.FirstMessage(id); err != nil || m.Body.Size() == 0 {
			h.t.Errorf("what could not be read is not there: %v", err)
		}
	}
	troubles, err := h.Troubles() // promise 12
	if err != nil || len(troubles) != 1 || troubles[0].Flow != "poll" || troubles[0].Why == "" {
		h.t.Errorf("the poll fails, and one sees %+v, %v", troubles, err)
	}
	h.judgeKeys()
	h.judgeTries()
}

// judgeKeys: each message has one key on all its tries, and the queue hands each over once:
// promise 2.
func (h *history) judgeKeys() {
	keys := map[string]map[string]bool{}
	for _, c := range h.out.got() {
		if c.to == "away" {
			continue
		}
		var m struct{ N int }
		if err := json.Unmarshal([]byte(c.body), &m); err != nil {
			h.t.Fatal(c.body, err)
		}
		one := fmt.Sprint(c.path, " ", m.N)
		if keys[one] == nil {
			keys[one] = map[string]bool{}
		}
		keys[one][c.key] = true
	}
	for n, m := range h.all {
		at := map[string]string{"f": "/f", "q": "/r", "w": "/w"}[m.flow]
		if got := len(keys[fmt.Sprint(at, " ", n)]); got > 1 && !(m.resent && m.flow == "f") || got == 0 && !m.resent {
			h.t.Errorf("%s %d went out under %d keys", m.flow, n, got)
		}
	}
}

// judgeTries: tries come when the plan says, one plan at a time (promise 6), and a message
// is not tried before the one ahead of the same value has come to its end (promise 5).
func (h *history) judgeTries() {
	type line struct {
		ended time.Time
		n     int
	}
	last := map[int]line{}
	for _, n := range h.order {
		m := h.all[n]
		if m.flow != "f" {
			continue
		}
		deliveries, err := h.store.Deliveries(m.id)
		if err != nil || len(deliveries) == 0 {
			h.t.Errorf("%d has %d deliveries, %v", n, len(deliveries), err)
			continue
		}
		all, err := h.store.Tries(deliveries[0].ID)
		if err != nil {
			h.t.Fatal(err)
		}
		rounds := map[int][]store.Try{}
		for _, one := range slices.DeleteFunc(all, func(t store.Try) bool { return !t.Counts() }) {
			rounds[one.Round] = append(rounds[one.Round], one)
		}
		for _, round := range rounds {
			h.judgeRound(n, round)
		}
		firstRound := rounds[0]
		if len(firstRound) == 0 || m.resent {
			continue
		}
		if ahead := last[m.k]; firstRound[0].At.Before(ahead.ended) {
			h.t.Errorf("%d was tried at %s, and %d ahead of it at %s", n, firstRound[0].At, ahead.n, ahead.ended)
		}
		last[m.k] = line{firstRound[len(firstRound)-1].At, n}
	}
}

func (h *history) judgeRound(n int, round []store.Try) {
	if len(round) > tries {
		h.t.Errorf("%d was tried %d times in a round", n, len(round))
	}
	for i := 1; i < len(round); i++ {
		want := min(first<<(i-1), capped) // first·2^(n−1), at most cap
		if got := round[i].At.Sub(round[i-1].At); got < want || got > want+time.Second {
			h.t.Errorf("%d: %s lie between tries %d and %d, and the plan says %s", n, got, i, i+1, want)
		}
	}
}
