package connect

import (
	"context"
	"fmt"
	"testing"
	"time"
)

func TestAConnectionIsAsTheWorseOfItsDirections(t *testing.T) {
	var p Pulses
	at := time.Date(2026, 3, 17, 9, 0, 0, 0, time.UTC)
	is := func(want Condition, since time.Time) {
		t.Helper()
		if got := p.Pulse("desk", at); got.Condition != want || !got.Since.Equal(since) {
			t.Errorf("%q since %s, want %q since %s", got.Condition, got.Since, want, since)
		}
	}
	is(Unknown, time.Time{})
	began := at
	p.Ready("desk", Inward, at)
	at = at.Add(time.Second)
	p.Through("desk", Inward, 3, at)
	is(Works, began)
	failed := at
	p.Failed("desk", Outward, "403", true, at)
	at = at.Add(time.Second)
	p.Through("desk", Inward, 2, at) // it still works inward
	is(Refuses, failed)
	at = at.Add(time.Second)
	p.Failed("desk", Inward, "broke off", false, at)
	is(Silent, at)
	p.Works("desk", Inward, at)
	is(Refuses, at)
	p.Through("desk", Outward, 1, at)
	is(Works, at)
	got := p.Pulse("desk", at)
	if got.In != 5 || got.Out != 1 || got.InAll != 5 || got.FailedAll != 2 || got.Error != "broke off" || len(got.Lately) == 0 {
		t.Errorf("%+v", got)
	}
	if late := p.Pulse("desk", at.Add(59*time.Second)); late.In != 0 || late.Out != 1 || late.OutAll != 1 {
		t.Errorf("a minute later: %+v", late)
	}
	for i := range 50 {
		p.Note("desk", true, fmt.Sprint(i), at)
		p.Note("desk", true, fmt.Sprint(i), at) // said twice, kept once
	}
	if got := p.Pulse("desk", at).Lately; len(got) != keptEvents || got[0].Detail != "49" || got[1].Detail != "48" {
		t.Errorf("%+v", got)
	}
	ready, behind := false, int64(0)
	ctx := WithTelling(context.Background(), Telling{Ready: func() { ready = true }, Behind: func(n int64) { behind = n }})
	TellReady(ctx)
	TellBehind(ctx, 7)
	p.Behind("desk", "in", behind)
	TellReady(context.Background()) // nobody listens
	if got := p.Pulse("desk", at); !ready || got.Backlog["in"] != 7 {
		t.Errorf("%+v", got)
	}
	p.Forget("desk")
	is(Unknown, time.Time{})
}

func TestAnswersFindWhoAsked(t *testing.T) {
	var a Answers[string]
	late := map[string]string{}
	a.Late(func(id, answer string) { late[id] = answer })
	first, heard, done := a.Expect("7")
	again, _, endAgain := a.Expect("7") // another try hears its own answer alone
	if first == again {
		t.Error("two tries have one key")
	}
	endAgain()
	a.Hears(first, "one")
	a.Hears(first, "two")
	if got := <-heard; got != "one" || late["7"] != "two" {
		t.Errorf("%s, late %v", got, late)
	}
	a.Hears(again, "three")
	a.Hears("of somebody else", "four")
	if done(); late["7"] != "three" || len(late) != 1 {
		t.Errorf("%v", late)
	}
}
