package engine

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"testing/synctest"

	"readyferry/core/run"
	"readyferry/engine/catalog"
	"readyferry/engine/design"
	"readyferry/engine/journal"
	"readyferry/store"
)

// A version is immutable: what began under one ends under it, unless a person
// resends it under another.
func TestVersions(t *testing.T) { synctest.Test(t, testVersions) }

func testVersions(t *testing.T) {
	w := simpleWorld(t)
	id := w.accepted("/simple", `{"ref":"R","w":5}`)
	w.becomes(id, store.DeadLetter)
	w.publish(strings.Replace(simple, "from: body.v", "from: body.w", 1))
	ctx := context.Background()
	ids := []store.ID{w.letter(id).ID}
	if p, err := w.Preview(journal.Decision{IDs: ids}); err != nil || p[0].Rehearsal.State != run.DeadLetter {
		t.Errorf("under its own version: %+v %v", p, err)
	}
	if _, err := w.Resend(ctx, journal.Decision{IDs: ids, Version: "draft"}); !errors.Is(err, ErrDecision) {
		t.Errorf("under the draft: %v", err)
	}
	if _, err := w.Resend(ctx, journal.Decision{IDs: ids, Version: "live"}); err != nil {
		t.Fatal(err)
	}
	if tx := w.becomes(id, store.Delivered); tx.Version != 2 {
		t.Errorf("%+v", tx)
	}
}

func TestDraftsThatCannotBeReadAreNotSaved(t *testing.T) {
	synctest.Test(t, testDraftsThatCannotBeReadAreNotSaved)
}

func testDraftsThatCannotBeReadAreNotSaved(t *testing.T) {
	w := simpleWorld(t)
	ctx := context.Background()
	for name, doc := range map[string]string{
		"an unknown key": strings.Replace(simple, "fields:", "feilds:", 1),
		"another name":   strings.Replace(simple, "name: simple", "name: other", 1),
		"no YAML":        "a: [",
		"a schema with a mistake": strings.Replace(simple, "steps:",
			"steps:\n  - {id: v, kind: validate, schema: {type: objct}}", 1),
	} {
		var refused *design.FindingsError
		if _, _, err := w.SaveDraft(ctx, "simple", []byte(doc), nil); !errors.As(err, &refused) ||
			len(refused.Findings) == 0 {
			t.Errorf("%s: %v", name, err)
		}
	}
	f, err := w.store.Flow("simple")
	if err != nil || f.Draft != simple || f.Revision != 1 {
		t.Errorf("half a state: %+v %v", f, err)
	}
	one := int64(1)
	if _, _, err := w.SaveDraft(ctx, "simple", []byte(strings.Replace(simple, "body.v}", "bdoy.v}", 1)),
		&one); err != nil {
		t.Errorf("a draft with a wrong expression is still a draft: %v", err)
	}
	if _, _, err := w.SaveDraft(ctx, "simple", []byte(simple), &one); !errors.Is(err, ErrConflict) {
		t.Errorf("a lost edit: %v", err)
	}
	var refused *design.FindingsError
	if _, _, err := w.Publish(ctx, "simple", design.Word{}); !errors.As(err, &refused) {
		t.Errorf("published with an error: %v", err)
	}
}

func TestSecretsStaySealed(t *testing.T) { synctest.Test(t, testSecretsStaySealed) }

func testSecretsStaySealed(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	ctx := context.Background()
	doc := "{readyferry: connection/1, name: c, kind: http, address: 'http://127.0.0.1:1', sign-in: {kind: bearer, secret: very-secret-token}}"
	if _, err := w.SaveConnection(ctx, "c", []byte(doc), nil); err != nil {
		t.Fatal(err)
	}
	row, err := w.store.Connection("c")
	if err != nil || strings.Contains(string(row.Document), "very-secret") ||
		strings.Contains(string(row.Sealed), "very-secret") {
		t.Errorf("%s %q", row.Document, row.Sealed)
	}
	// Saved again without a secret, it keeps the one it has.
	if _, err := w.SaveConnection(ctx, "c", row.Document, nil); err != nil {
		t.Fatal(err)
	}
	if got := w.Engine.Catalog.Connection("c").SignIn.Secrets; len(got) != 1 || got[0] != "very-secret-token" {
		t.Errorf("%v", got)
	}
	// Another way to sign in needs a secret of its own.
	var refused *design.FindingsError
	if _, err := w.SaveConnection(ctx, "c", []byte(strings.Replace(string(row.Document), "bearer", "api-key", 1)),
		nil); !errors.As(
		err,
		&refused,
	) {
		t.Errorf("%v", err)
	}
}

// Samples and their pinned outcomes.
func TestSamplesAreRehearsed(t *testing.T) { synctest.Test(t, testSamplesAreRehearsed) }

func testSamplesAreRehearsed(t *testing.T) {
	w := simpleWorld(t)
	ctx := context.Background()
	s := catalog.Sample{Name: "one", Body: `{"v":1,"ref":"R"}`, Replies: map[string]catalog.Reply{"d": {Status: 503}}}
	if err := w.SaveSample(ctx, "simple", s); err != nil {
		t.Fatal(err)
	}
	r, findings, err := w.RehearseSamples("simple", nil, nil)
	if err != nil || len(r) != 1 || r[0].State != run.Waiting || r[0].Expected != "none" || len(findings) != 1 {
		t.Fatalf("%+v %v %v", r, findings, err)
	}
	outcomes := map[string]string{}
	for _, e := range r[0].Trace {
		outcomes[e.Path] = e.Outcome
	}
	s.Expect = &catalog.Expectation{State: run.Waiting, Answer: 202, Outcomes: outcomes}
	for what, c := range map[string]struct {
		change func(*catalog.Sample)
		want   string
	}{
		"as it was":     {func(*catalog.Sample) {}, "as expected"},
		"another reply": {func(s *catalog.Sample) { s.Replies = nil }, "differs"},
		"another body":  {func(s *catalog.Sample) { s.Body = `{"ref":"R"}` }, "differs"},
		"no body":       {func(s *catalog.Sample) { s.Body = "" }, "differs"},
	} {
		changed := s
		c.change(&changed)
		r, _, err := w.RehearseSamples("simple", nil, []catalog.Sample{changed})
		if err != nil || r[0].Expected != c.want {
			t.Errorf("%s: %+v %v", what, r[0], err)
		}
	}
	if len(w.out.got()) != 0 {
		t.Error("a rehearsal has sent something")
	}
	if err := w.SaveSample(ctx, "nobody", s); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
}

// A version that can no longer be read stops its own flow and no other.
func TestABrokenVersionStopsOnlyItsFlow(t *testing.T) {
	synctest.Test(t, testABrokenVersionStopsOnlyItsFlow)
}

func testABrokenVersionStopsOnlyItsFlow(t *testing.T) {
	w := simpleWorld(t)
	w.publish(strings.NewReplacer("name: simple", "name: other", "/simple", "/other").Replace(simple))
	if err := w.store.Write(context.Background(), func(tx *store.Tx) error {
		f, err := tx.Flow("other")
		if err != nil {
			return err
		}
		if err := tx.AddVersion(&store.Version{Flow: "other", Document: "readyferry: flow/9"}); err != nil {
			return err
		}
		f.Live = 2
		return tx.SaveFlow(&f)
	}); err != nil {
		t.Fatal(err)
	}
	w.close()
	w2 := start(t, w.dir, w.out)
	w2.becomes(w2.accepted("/simple", `{"v":1,"ref":"R"}`), store.Delivered)
	if in, _ := w2.Find("POST", "/other"); in != nil {
		t.Error("a flow without a readable version answers")
	}
}

// However many change things at once, the engine ends with what is stored.
func TestConcurrentChangesLeaveTheNewestVersionLive(t *testing.T) {
	synctest.Test(t, testConcurrentChangesLeaveTheNewestVersionLive)
}

func testConcurrentChangesLeaveTheNewestVersionLive(t *testing.T) {
	w := simpleWorld(t)
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 5 {
				_, _, _ = w.Publish(context.Background(), "simple", design.Word{})
				_ = w.Pause(context.Background(), "simple", false, false)
			}
		})
	}
	all.Wait()
	f, err := w.store.Flow("simple")
	if err != nil || w.Engine.Catalog.Flow("simple").Version != f.Live {
		t.Errorf("version %d is stored and %d runs, %v", f.Live, w.Engine.Catalog.Flow("simple").Version, err)
	}
}
