package audit

import (
	"strings"
	"testing"
)

// Secrets and contents do not come into the audit, whatever document holds them and however deep.
func TestWhatIsSentIsKeptDiscreetly(t *testing.T) {
	for sent, want := range map[string]string{
		`{"title":"x","password":"s3cret","old":"s3cret"}`: `{"title":"x","password":"(not shown)","old":"(not shown)"}`,
		"name: c\nsign-in: {kind: bearer, secret: s3cret}\nkeys: [{token: s3cret}]\n": `{"name":"c","sign-in":{"kind":"bearer",` +
			`"secret":"(not shown)"},"keys":[{"token":"(not shown)"}]}`,
		`{"ids":["1"],"patch":[{"op":"add","path":"/a","value":"s3cret"}],"message":{"name":"s3cret"}}`: `{"ids":["1"],` +
			`"patch":"(43 bytes)","message":"(17 bytes)"}`,
		"s3cret;1\n2;3\n": `{"bytes":13,"sha256":"`,
	} {
		got := string(Discreet([]byte(sent), int64(len(sent))))
		if strings.Contains(got, "s3cret") || !strings.HasPrefix(got, want) {
			t.Errorf("%s is kept as %s", sent, got)
		}
	}
	large := `{"title":"` + strings.Repeat("x", KeptOfBody) + `"}`
	if got := string(Discreet([]byte(large)[:KeptOfBody+1], int64(len(large)))); !strings.HasPrefix(got, `{"bytes":`) {
		t.Errorf("a large one is kept as %.80s", got)
	}
	if Discreet(nil, 0) != nil {
		t.Error("nothing is something")
	}
}
