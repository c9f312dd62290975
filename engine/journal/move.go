package journal

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"

	"readyferry/core/plan"
	"readyferry/core/retry"
	"readyferry/core/run"
	"readyferry/core/step"
	"readyferry/core/table"
	"readyferry/core/want"
	"readyferry/store"
	"readyferry/store/body"
)

// Move is one transaction's part in a session: how far it goes, worked out
// outside of the writer over what was read.
type Move struct {
	Session *Session
	Tx      store.Transaction // as it was read, or as it begins
	Plan    *plan.Plan
	Begun
	MessageN int // the message that counts

	fresh   bool               // just made: nothing of it is stored yet
	message *store.Message     // of a fresh one
	content []byte             // of the message that counts, or its name where it is not at hand
	apart   bool               // it is not
	size    int64              // of what is not
	row     *store.Transaction // of a fresh one: what is stored, when others fill it in inside of the writer
	doing   []func(w *Writing) error
	result  *run.Result
	sends   map[string]outgoing // by path
	answer  []byte              // JSON of what a step answers
	heard   store.Effect        // what a flow that waits for this one hears of its end
	refused map[string]step.Failure
	waits   map[string]bool // paths at which it waits
	letters []store.Letter  // as they were read
	rearm   map[string]bool // paths whose ended deliveries a person sends again
	pass    map[string]bool // paths at which a person lets it go on although its turn has not come
}

// Read reads a transaction that is to move on. The error may be a
// *run.RefusedError, of a message that can no longer be read.
func (s *Session) Read(id store.ID) (*Move, error) {
	t, err := s.Store.Transaction(id)
	if err != nil {
		return nil, err
	}
	p, err := s.Catalog.Plan(t.Flow, t.Version)
	if err != nil {
		return nil, err
	}
	m, err := s.Store.MessageHead(id)
	if err == nil && !(p.Unread() && m.Body.Size() > Large) {
		err = s.Store.Fill(&m.Body)
	}
	if err != nil {
		return nil, err
	}
	return s.read(t, p, &m)
}

// read reads what a walk needs of a transaction under a plan and over a message
// that may be others than the file has.
func (s *Session) read(t store.Transaction, p *plan.Plan, m *store.Message) (*Move, error) {
	v := s.newMove(t, p)
	v.MessageN = m.N
	v.over(m)
	err := s.Computes(t.Flow, v.content)
	if err != nil {
		return nil, err
	}
	if v.letters, err = s.Store.LettersOf(t.ID); err != nil {
		return nil, err
	}
	if t.Gathered > 0 {
		at, err := s.Store.HeldAt(t.ID)
		if err != nil {
			return nil, err
		}
		limits, err := s.Store.LimitsOf(t.ID)
		if err != nil {
			return nil, err
		}
		for _, path := range append(at, limits...) {
			v.waits[path] = true
		}
	}
	var known bool
	if v.Begun, known, err = s.again(&t, m, p); known || err != nil {
		return v, err
	}
	v.Begun, err = s.walkOf(&t, m, p)
	return v, err
}

func (s *Session) newMove(t store.Transaction, p *plan.Plan) *Move {
	if s.Tables == nil {
		s.Tables = &table.Scratch{Under: s.Store.LookIn()}
	}
	return &Move{Session: s, Tx: t, Plan: p, refused: map[string]step.Failure{}, waits: map[string]bool{}}
}

// New makes the move of a transaction that begins in this session.
func (s *Session) New(t store.Transaction, m *store.Message, p *plan.Plan, in run.Input) *Move {
	v := s.newMove(t, p)
	if in.Effects == nil {
		in.Effects = map[string]want.Effect{}
	}
	v.input, v.fresh, v.message = in, true, m
	v.over(m)
	return v
}

// Large is the size from which a content is not held that no step reads, in bytes.
const Large = 1 << 20

// over notes what the message holds that the move goes over, or what it is named where it is
// not at hand.
func (v *Move) over(m *store.Message) {
	v.apart, v.size = !m.Body.Filled(), m.Body.Size()
	if v.apart {
		v.content = m.Body.Reference()
	} else {
		v.content = m.Body.Bytes()
	}
}

// LookIn gives the tables that the move's steps see, with what this session is
// going to write into them.
func (v *Move) LookIn() table.Tables { return v.Plan.Tables(v.Session.Tables) }

// Then adds work to be done inside of the writer, behind what was added before.
func (v *Move) Then(do func(w *Writing) error) { v.doing = append(v.doing, do) }

// Wants tells what the transaction wants as it stands.
func (v *Move) Wants() []want.Asked { return run.Walk(v.Plan, v.input).Wants }

// WantAt gives what it wants at a path, or nil.
func (v *Move) WantAt(path string) *want.Asked {
	wants := v.Wants()
	for i := range wants {
		if wants[i].Path == path {
			return &wants[i]
		}
	}
	return nil
}

// Passes tells whether a person lets the transaction go on at a path although
// its turn has not come.
func (v *Move) Passes(path string) bool { return v.pass[path] }

// Over lets the walk go on over an effect that ends a wait; inside of the writer
// the wait is ended.
func (v *Move) Over(l *store.TimeLimit, effect want.Effect) {
	e, err := Prepare(l.Path, effect)
	v.Then(func(w *Writing) error {
		if err != nil {
			return err
		}
		if l.Waits {
			if stands, err := w.Tx.HasLimit(l.Tx, l.Path); err != nil || !stands {
				return stale(err)
			}
		}
		if err := w.WaitsNot(l); err != nil {
			return err
		}
		return w.record(e)
	})
	delete(v.waits, l.Path)
	v.input.Effects[l.Path] = effect
}

// Effect lets the walk go on over an effect, which is recorded.
func (v *Move) Effect(path string, effect want.Effect) {
	e, err := Prepare(path, effect)
	if err != nil {
		v.Then(func(*Writing) error { return err })
		return
	}
	v.Prepared(e, effect)
}

// Prepared is Effect of one that is prepared.
func (v *Move) Prepared(e store.Effect, effect want.Effect) {
	v.input.Effects[e.Path] = effect
	v.Then(func(w *Writing) error { return w.record(e) })
}

func stale(err error) error {
	if err == nil {
		err = ErrStale
	}
	return err
}

// Go walks as far as the transaction comes, assuming what its wants will come
// to, and adds the move to the session. last is the walk with which it stops.
func (v *Move) Go() (last *run.Result, err error) {
	for {
		v.result = run.Walk(v.Plan, v.input)
		for _, k := range v.result.Keep {
			v.Effect(k.Path, k.Effect)
		}
		v.result.Keep = nil
		moved := false
		for _, asked := range v.result.Wants {
			some, err := v.foresee(asked)
			if err != nil {
				return nil, err
			}
			moved = moved || some
		}
		if !moved {
			break
		}
	}
	for _, asked := range v.result.Wants {
		if f, ok := v.refused[asked.Path]; ok {
			v.result.Failures = append(v.result.Failures, f)
		}
	}
	v.Session.Then(v.commit)
	return v.result, v.prepare()
}

// outgoing is a request as it is stored with its delivery.
type outgoing struct {
	rules         retry.Plan
	plan, request []byte
	body          body.Body
}

// prepare makes what the commit stores of the walk's end, so that the writer need
// not: the requests of deliveries, and what a caller hears.
func (v *Move) prepare() error {
	v.sends = map[string]outgoing{}
	for _, asked := range v.result.Wants {
		send, ok := asked.Want.(*want.Send)
		if !ok {
			continue
		}
		rules := retry.Default()
		if send.Retry != nil {
			rules = *send.Retry
		} else if c := v.Session.Catalog.Connection(send.Connection); c != nil && c.Retry != nil {
			rules = *c.Retry
		}
		plan, err := rules.Encode()
		if err != nil {
			return err
		}
		v.tag(send.Request, asked.Path)
		request, err := send.Request.Encode()
		if err != nil {
			return err
		}
		v.sends[asked.Path] = outgoing{rules, plan, request, v.handed(send.Request.Body)}
	}
	var err error
	if a := v.result.Answer; a != nil {
		if v.answer, err = json.Marshal(a); err != nil {
			return err
		}
		v.heard, err = Prepare(
			v.Tx.CallerPath,
			want.Effect{Item: v.Tx.ID.String(), Status: a.Status, Headers: a.Headers, Body: a.Body},
		)
	} else if v.Tx.CallerWaits || v.Plan.Once != nil && v.Plan.Document.Intake.Kind == "subflow" {
		v.heard, err = Prepare(v.Tx.CallerPath, final(v.Tx.ID, v.result))
	}
	return err
}

// tag notes with a request what the delivery's own row does not tell: the journey that it
// belongs to, and the key of an earlier delivery that it repeats.
func (v *Move) tag(r *want.Request, path string) {
	if t := &v.Tx; t.Journey != nil {
		r.Trace = hex.EncodeToString(t.Journey[:])
	}
	if t := &v.Tx; t.KeysOf != nil {
		r.Key = run.DeliveryID(t.KeysOf.String(), path)
	}
}

// handed gives what a delivery hands over as it is kept: the message itself where that is
// what goes out.
func (v *Move) handed(content []byte) body.Body {
	if v.apart && bytes.Equal(content, v.content) {
		return body.AsStored(v.MessageN, v.size)
	}
	if len(content) > body.Inline && bytes.Equal(content, v.content) {
		return body.AsMessage(content, v.MessageN)
	}
	return body.Of(content).Packed()
}

// foresee assumes what one want comes to. moved tells that the walk goes on over
// its effect.
func (v *Move) foresee(asked want.Asked) (moved bool, err error) {
	performer := v.Session.performers[asked.Kind()]
	if _, no := v.refused[asked.Path]; no || v.waits[asked.Path] || performer == nil {
		return false, nil
	}
	if f := v.lettered(asked.Path); f != nil {
		v.refused[asked.Path] = *f
		return false, nil
	}
	here := place{v.Tx.ID, asked.Path}
	o, learned := v.Session.known.outcomes[here]
	if !learned {
		if o, err = performer.Foresee(v, asked); err != nil {
			return false, err
		}
	}
	v.Then(func(w *Writing) error { return w.perform(performer, asked, o) })
	switch {
	case o.Failure != nil && asked.Soft:
		v.input.Effects[asked.Path] = want.Effect{Failed: o.Failure.Reason}
		return true, nil
	case o.Failure != nil:
		f := *o.Failure
		if f.Step, f.Path = asked.Step, asked.Path; f.Kind == "" {
			f.Kind = asked.StepKind
		}
		v.refused[asked.Path] = f
		return false, nil
	case o.Effect != nil:
		v.input.Effects[asked.Path] = *o.Effect
		return true, nil
	}
	v.waits[asked.Path] = true
	return false, nil
}

// lettered gives the failure of a place whose dead letter a person has not sent
// again; nil for any other place. What stands there is not done again by the way,
// when something else of the transaction moves on.
func (v *Move) lettered(path string) *step.Failure {
	if v.rearm[path] {
		return nil
	}
	for _, l := range v.letters {
		if l.Path == path && (l.State == store.LetterOpen || l.State == store.LetterDiscarded) {
			return &step.Failure{
				Step:   l.Step,
				Path:   l.Path,
				Kind:   l.Kind,
				Phase:  l.Phase,
				Class:  step.Class(l.Class),
				Reason: l.Reason,
			}
		}
	}
	return nil
}

// Settles adds the move to the session without a walk: what was added, do, and
// the state that follows from it.
func (v *Move) Settles(do func(w *Writing) error) error {
	v.Then(do)
	v.Session.Then(func(tx *store.Tx, n *Notice) error {
		w, err := v.do(tx, n)
		if err != nil {
			return err
		}
		return w.Settle()
	})
	return nil
}

// commit does the move inside of the writer.
func (v *Move) commit(tx *store.Tx, n *Notice) error {
	w, err := v.do(tx, n)
	if err != nil {
		return err
	}
	return w.settleWalk(v.result)
}

func (v *Move) do(tx *store.Tx, n *Notice) (*Writing, error) {
	w, err := v.writing(tx, n)
	if err != nil {
		return nil, err
	}
	for _, do := range v.doing {
		if err := do(w); err != nil {
			return nil, err
		}
	}
	return w, nil
}

// writing begins the move inside of the writer: a new transaction is stored, and
// an old one must be as it was read.
func (v *Move) writing(tx *store.Tx, n *Notice) (*Writing, error) {
	t := v.Tx
	w := &Writing{Journal: v.Session.Journal, Tx: tx, T: &t, Notice: n, Move: v}
	if v.fresh {
		if v.row != nil {
			t = *v.row
		}
		return w, tx.AddTransaction(w.T, v.message)
	}
	now, err := tx.Transaction(t.ID)
	if err != nil {
		return nil, err
	}
	if now.Revision != t.Revision {
		return nil, ErrStale
	}
	now.Version, now.Unbegun = t.Version, t.Unbegun // a resend may say otherwise
	now.Revision++                                  // who read it before this commit walks anew
	w.T = &now
	return w, nil
}

// Advance takes a transaction on that others have brought something about for.
func (j *Journal) Advance(ctx context.Context, flow string, id store.ID) error {
	return j.Do(ctx, flow, func(s *Session) error {
		t, err := s.Store.Transaction(id)
		if err != nil || !t.ToWalk {
			return err
		}
		v, err := s.Read(id)
		if err != nil {
			return err
		}
		_, err = v.Go()
		return err
	})
}
