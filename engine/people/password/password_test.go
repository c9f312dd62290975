package password

import (
	"errors"
	"strings"
	"testing"
)

func TestPasswordsAreKeptAndVerified(t *testing.T) {
	kept, err := Hash("ein Fähranleger im Nebel")
	if err != nil {
		t.Fatal(err)
	}
	if !strings.HasPrefix(kept, "$argon2id$v=19$m=19456,t=2,p=1$") || strings.Contains(kept, "Nebel") {
		t.Errorf("kept as %s", kept)
	}
	if other, _ := Hash("ein Fähranleger im Nebel"); other == kept {
		t.Error("two of the same are kept alike")
	}
	if err := Verify(kept, "ein Fa\u0308hranleger im Nebel"); err != nil { // the same letter, written as two
		t.Errorf("it is not normalised: %v", err)
	}
	for _, wrong := range []string{"", "ein Fähranleger im nebel", "ein Fähranleger im Nebel "} {
		if err := Verify(kept, wrong); !errors.Is(err, ErrWrong) {
			t.Errorf("%q: %v", wrong, err)
		}
	}
	for _, none := range []string{"", "$argon2id$", "$2b$10$x", "$argon2id$v=19$m=99999999,t=2,p=1$AA$AA",
		"$argon2id$v=19$m=19456,t=0,p=1$AA$AA"} {
		if Verify(none, "") == nil || Verify(none, "x") == nil {
			t.Errorf("%q verifies", none)
		}
	}
}

// Vectors of RFC 9106 need a secret and associated data, which are not used here; this one was
// made by the reference implementation (argon2 of Debian: echo -n "password" | argon2 somesalt
// -id -t 2 -k 65536 -p 1, as its README shows; from memory).
func TestAnotherImplementationsPasswordVerifies(t *testing.T) {
	const kept = "$argon2id$v=19$m=65536,t=2,p=1$c29tZXNhbHQ$CTFhFdXPJO1aFaMaO6Mm5c8y7cJHAph8ArZWb2GRPPc"
	if err := Verify(kept, "password"); err != nil {
		t.Errorf("%v", err)
	}
}

func TestRulesForNewPasswords(t *testing.T) {
	for _, bad := range []string{"short", "elevenchars", "password1234", "qwertyuiop123", "aaaaaaaaaaaaaaaa",
		"123456789012", "readyferry12",
		"maudlindqvist", "iloveyou1234", "Passw0rd1234", strings.Repeat("x y z ", 30)} {
		if Check(bad, "maud", "lindqvist") == nil {
			t.Errorf("%q is taken", bad)
		}
	}
	for _, good := range []string{"otter lamp violin", "ein Fähranleger im Nebel", "Vw7-kk2-Qz9-pl0", "日本語の長い合言葉をえらびます",
		strings.Repeat("lantern under ", 9)} {
		if err := Check(good, "maud"); err != nil {
			t.Errorf("%q: %v", good, err)
		}
	}
}

// The reckoning of a strength agrees with the rules: what they refuse lies below the half, or is
// too short, and what they take does not.
func TestStrength(t *testing.T) {
	for text, enough := range map[string]bool{
		"": false, "password1234": false, "readyferry2026": false, "maud-lindqvist": false,
		"otter lamp violin": true, "seven grey herons by the quiet weir": true,
	} {
		of1, wrong := Strength(text, "maud", "lindqvist")
		if of1 < 0 || of1 > 1 || (wrong == "") != enough || (wrong == "") != (Check(text, "maud", "lindqvist") == nil) ||
			enough && of1 < 0.5 {
			t.Errorf("%q: %.2f %q", text, of1, wrong)
		}
	}
	if of1, wrong := Strength(strings.Repeat("otter lamp ", 1000)); of1 != 1 || wrong == "" {
		t.Errorf("a long one: %.2f %q", of1, wrong)
	}
}
