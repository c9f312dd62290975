package run

import (
	"encoding/base64"
	"strings"
	"testing"

	"readyferry/core/flow"
	"readyferry/core/plan"
)

var binaryFiles = map[string][]byte{
	"schemas/loan.avsc": []byte(`{"type":"record","name":"Loan","fields":[{"name":"card","type":"string"},
		{"name":"items","type":{"type":"array","items":"long"}},{"name":"due","type":{"type":"int","logicalType":"date"}}]}`),
	"schemas/loan.proto": []byte(
		`syntax = "proto3"; message Loan { string card = 1; repeated int64 items = 2; string due = 3; }
		message Other { int32 x = 1; }`,
	),
}

func readBinary(t *testing.T, src string) (*plan.Plan, []flow.Finding) {
	t.Helper()
	r, err := plan.NewReader()
	if err != nil {
		t.Fatal(err)
	}
	return r.Read([]byte(src), binaryFiles)
}

// A message comes as Avro, goes on as Protocol Buffers, is read again and is JSON at the end; each
// is shown as its tree.
func TestBinaryFormatsByASchema(t *testing.T) {
	p, findings := readBinary(t, `
readyferry: flow/1
name: w
intake: {kind: queue, queue: q0, format: auto, schema: schemas/loan.avsc, reference: body.card}
steps:
  - {id: m, kind: map, as: protobuf, schema: schemas/loan.proto, message-type: Loan, fields: [{to: /card, from: body.card},
      {to: /due, from: body.due}, {to: /items, each: body.items, fields: [{to: "", from: item + 1}]}]}
  - {id: s, kind: deliver, to: {queue: bytes}}
  - {id: n, kind: note, text: '${body.items[1]} ${body.due}'}
  - {id: c, kind: convert, to: json}
`)
	if flow.HasErrors(findings) {
		t.Fatal(findings)
	}
	e := envelope("\x06LC1\x04\x02\x04\x00\x8e\x93\x05") // 42183 days
	e.Headers[1].Value = "avro/binary"
	r := Rehearse(p, e, Options{})
	if got := told(r); !strings.HasSuffix(
		got,
		`n: 3 2085-06-29; c: protobuf to json; {"card":"LC1","items":[2,3],"due":"2085-06-29"}`,
	) {
		t.Error(got)
	}
	if r.Intake.Reference != "LC1" || r.Intake.Body.Format != "avro" ||
		*r.Intake.Body.Tree != `{"card":"LC1","items":[1,2],"due":"2085-06-29"}` ||
		r.Intake.Body.Base64 == nil {
		t.Errorf("%+v", r.Intake)
	}
	if got := base64.StdEncoding.EncodeToString(r.Deliveries[0].Request.Base64); got != "CgNMQzESAgIDGgoyMDg1LTA2LTI5" {
		t.Errorf("%s", got)
	}
	broken := envelope("\x06LC")
	broken.Headers = e.Headers
	if r := Rehearse(p, broken, Options{}); r.State != DeadLetter && r.State != TurnedAway ||
		!strings.Contains(*r.Reason, "/card: the message ends in a string") {
		t.Errorf("%s", told(r))
	}
}

func TestSchemasOfBinaryFormatsAreChecked(t *testing.T) {
	for settings, want := range map[string]string{
		"as: avro":                                 "/steps/0: avro is written by a schema",
		"as: avro, schema: schemas/gone.avsc":      "/steps/0/schema: the flow has no file schemas/gone.avsc",
		"as: protobuf, schema: schemas/loan.proto": "/steps/0/schema: the schema schemas/loan.proto has several message types",
		"as: protobuf":                             "/steps/0: protobuf is read and written by a schema",
		"as: avro, schema: schemas/loan.proto":     "/steps/0/schema: the schema schemas/loan.proto: ",
	} {
		_, findings := readBinary(
			t,
			"readyferry: flow/1\nname: w\nintake: {kind: queue, queue: q0, format: json}\nsteps: "+
				"[{id: m, kind: map, "+settings+", fields: []}]\n",
		)
		if len(findings) == 0 || !strings.HasPrefix(findings[0].Pointer+": "+findings[0].Message, want) {
			t.Errorf("%s: %v", settings, findings)
		}
	}
}
