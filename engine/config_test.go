package engine

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"readyferry/core/config"
	"readyferry/engine/design"
	"readyferry/store"
)

// atPlace starts an engine at a place that says something.
func atPlace(t *testing.T, dir string, out *target, says string) *world {
	t.Helper()
	w := startWith(t, dir, out, func(c *Config) {
		read, err := config.Read([]byte("readyferry: config/1\n" + says))
		if err != nil {
			t.Fatal(err)
		}
		c.Reader.Configure(read.Values)
		c.Systems.Configure(read)
	})
	return w
}

// A version gives what it was published with; when values of the place change, another
// follows it, and what has begun ends as it began.
func TestAVersionKeepsItsConfig(t *testing.T) {
	dir, out := t.TempDir(), &target{}
	answer := out.holds()
	w := atPlace(t, dir, out, `values: {where: {desk: north}, most: 5}`)
	w.connect("c", "")
	w.publish("readyferry: flow/1\nname: f\nintake: {kind: webhook, path: /f}\nsteps:\n" +
		"  - {id: m, kind: map, fields: [{to: /desk, from: config.where.desk}, {to: /many, from: body.n > config.most}]}\n" +
		"  - {id: d, kind: deliver, to: c}\n")
	w.publish("readyferry: flow/1\nname: g\nintake: {kind: webhook, path: /g}\nsteps: [{id: d, kind: deliver, to: c}]\n")
	if done, left, err := w.FollowConfig(t.Context()); err != nil || len(done)+len(left) > 0 {
		t.Errorf("nothing has changed: %v %v %v", done, left, err)
	}
	began := w.accepted("/f", `{"n":7}`)
	w.until("it is under way", func() bool { return len(out.got()) == 1 })
	if first := out.got()[0].body; first != `{"desk":"north","many":true}` {
		t.Error(first)
	}
	answer()
	w.until("it is delivered", func() bool {
		v, err := w.Transaction(began)
		return err == nil && v.State == store.Delivered
	})
	w.close()

	out = &target{}
	w = atPlace(t, dir, out, `values: {where: {desk: south}, most: 5, more: 1}`)
	done, left, err := w.FollowConfig(t.Context())
	if err != nil || len(left) > 0 || strings.Join(done, "") != "f: version 2 follows 1 (changed: config.where.desk)" {
		t.Fatalf("%v %v %v", done, left, err)
	}
	w.accepted("/f", `{"n":1}`)
	w.until("it has come", func() bool { return len(out.got()) == 1 })
	if second := out.got()[0].body; second != `{"desk":"south","many":false}` {
		t.Error(second)
	}
	p, err := w.Engine.Catalog.Plan("f", 1)
	if err != nil || p.Config["where.desk"].Text != "north" {
		t.Errorf("the first version reads %v, %v", p.Config, err)
	}
	if n, _, err := w.Publish(t.Context(), "f", design.Word{By: "otto"}); err != nil || n != 2 {
		t.Errorf("publishing the same again makes version %d: %v", n, err)
	}
	w.close()

	w = atPlace(t, dir, out, `values: {most: 5}`)
	if done, left, err = w.FollowConfig(t.Context()); err != nil || len(done) > 0 || len(left) != 1 ||
		!strings.Contains(left[0], "config has no value of this name") {
		t.Errorf("a value is gone: %v %v %v", done, left, err)
	}
	w.accepted("/f", `{"n":1}`)
	w.until("it has come", func() bool { return len(out.got()) == 2 })
	if third := out.got()[1].body; third != `{"desk":"south","many":false}` {
		t.Errorf("a flow whose value is gone gives %s", third)
	}
}

// Connections have addresses, limits and secrets from their place; a secret goes to its hosts alone.
func TestConnectionsFollowTheirPlace(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(file, []byte("first\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	says := "values: {shelf: {address: \"https://one.example\", per: 5}}\nsecrets: {token: {file: " + file +
		", for: [one.example]}}"
	w := atPlace(t, dir, &target{}, says)
	doc := "readyferry: connection/1\nname: c\nkind: http\naddress: \"${config.shelf.address}/v1\"\nlimits: {per-second: \"${config.shelf.per}\"}\n" +
		"sign-in: {kind: bearer}\nsecret-from: token\n"
	if _, err := w.SaveConnection(t.Context(), "c", []byte(doc), nil); err != nil {
		t.Fatal(err)
	}
	c := w.Engine.Catalog.Connection("c")
	if c.Address != "https://one.example/v1" || c.PerSecond != 5 || len(c.SignIn.Secrets) != 1 ||
		c.SignIn.Secrets[0] != "first" {
		t.Errorf("%+v", c)
	}
	if row, err := w.store.Connection("c"); err != nil || len(row.Sealed) > 0 ||
		!strings.Contains(string(row.Document), "${config.shelf.address}") {
		t.Errorf("what is kept: %s %v", row.Document, err)
	}
	if err := os.WriteFile(file, []byte("second"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := w.Engine.Catalog.FollowSecrets(); err != nil ||
		w.Engine.Catalog.Connection("c").SignIn.Secrets[0] != "second" {
		t.Errorf("the secret that has changed is not followed: %v", err)
	}
	for change, want := range map[string]string{
		strings.Replace(doc, "${config.shelf.address}", "https://two.example", 1): "may not go to two.example",
		strings.Replace(doc, "from: token", "from: other", 1):                     "no secret other",
		strings.Replace(doc, "shelf.address", "shelf.adress", 1):                  "config has no shelf.adress",
		strings.Replace(doc, "config.shelf.per", "config.shelf.address", 1):       "per-second",
	} {
		if _, err := w.SaveConnection(t.Context(), "c", []byte(change), nil); err == nil || !strings.Contains(err.Error(),
			want) {
			t.Errorf("%s\n%v", change, err)
		}
	}
	w.close()
	w = atPlace(t, dir, &target{}, strings.Replace(says, "https://one", "https://two", 1))
	if c := w.Engine.Catalog.Connection("c"); c != nil {
		t.Errorf("a secret follows an address: %+v", c)
	}
}
