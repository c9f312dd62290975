package engine

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"

	"readyferry/engine/journal"
	"readyferry/store"
)

// A dead letter of a format that a schema writes is repaired by its tree, and by a patch.
func TestABinaryMessageIsRepairedByItsTree(t *testing.T) {
	synctest.Test(t, testABinaryMessageIsRepairedByItsTree)
}

func testABinaryMessageIsRepairedByItsTree(t *testing.T) {
	w := start(t, t.TempDir(), &target{})
	w.connect("out", fast)
	flow := "readyferry: flow/1\nname: binary\nintake: {kind: webhook, path: /binary, format: avro, schema: schemas/l.avsc}\n" +
		"steps: [{id: v, kind: filter, keep: 'body.n > 9007199254740993 || 1 / 0 == 1'}, {id: d, kind: deliver, to: out, path: /x}]\n"
	first := strings.Replace(flow, ", schema: schemas/l.avsc", "", 1)
	if _, _, err := w.SaveDraft(context.Background(), "binary", []byte(first), nil); err != nil {
		t.Fatal(err)
	}
	schema := `{"type":"record","name":"L","fields":[{"name":"n","type":"long"},{"name":"s","type":"string"}]}`
	if _, err := w.SaveFile(context.Background(), "binary", "schemas/l.avsc", []byte(schema), nil); err != nil {
		t.Fatal(err)
	}
	w.publish(flow)
	for _, d := range []journal.Decision{
		{Tree: []byte(`{"n":9007199254740995,"s":"ab"}`)},
		{Patch: []byte(`[{"op":"replace","path":"/n","value":9007199254740995}]`)},
	} {
		id := w.accepted("/binary", "\x02\x04ab", "Content-Type: avro/binary")
		w.becomes(id, store.DeadLetter)
		d.IDs, d.Version = []store.ID{w.letter(id).ID}, "own"
		if _, err := w.Resend(context.Background(), d); err != nil {
			t.Fatal(err)
		}
		w.becomes(id, store.Delivered)
		calls := w.out.got()
		if got := calls[len(calls)-1].body; got != "\x86\x80\x80\x80\x80\x80\x80\x20\x04ab" {
			t.Errorf("delivered %q", got)
		}
		messages, err := w.Messages(id)
		if err != nil {
			t.Fatal(err)
		}
		last := messages[len(messages)-1]
		if name, tree, err := w.Tree(id, &last); err != nil || name != "avro" ||
			tree != `{"n":9007199254740995,"s":"ab"}` {
			t.Errorf("%s %s %v", name, tree, err)
		}
	}
	bad := w.accepted("/binary", "\x02\x04ab", "Content-Type: avro/binary")
	w.becomes(bad, store.DeadLetter)
	_, err := w.Resend(
		context.Background(),
		journal.Decision{IDs: []store.ID{w.letter(bad).ID}, Version: "own", Tree: []byte(`{"n":"x"}`)},
	)
	if err == nil || !strings.Contains(err.Error(), "avro, /n: a string was given, and the schema has long") {
		t.Errorf("a wrong tree: %v", err)
	}
}
