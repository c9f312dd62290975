package outbound

import (
	"errors"
	"net/netip"
	"testing"
)

// Addresses of the registries for special purposes (RFC 6890, 6598, 4193, 3927, from memory).
func TestClasses(t *testing.T) {
	for text, want := range map[string]Class{
		"127.0.0.1": Loopback, "127.9.9.9": Loopback, "::1": Loopback, "0.0.0.0": Loopback, "::": Loopback,
		"::ffff:127.0.0.1": Loopback, "64:ff9b::7f00:1": Loopback,
		"169.254.169.254": LinkLocal, "fe80::1": LinkLocal, "fe80::1%eth0": LinkLocal, "::ffff:169.254.1.1": LinkLocal,
		"10.0.0.1": Private, "172.16.0.1": Private, "172.31.255.255": Private, "192.168.1.1": Private, "100.64.0.1": Private,
		"100.127.255.255": Private, "fd00::1": Private, "fc00::1": Private, "192.0.2.1": Private, "255.255.255.255": Private,
		"224.0.0.1": Private, "2001:db8::1": Private, "64:ff9b::a00:1": Private, "0.1.2.3": Private,
		"172.15.255.255": Public, "172.32.0.0": Public, "100.128.0.0": Public, "8.8.4.4": Public, "2606:4700::1": Public,
		"64:ff9b::808:404": Public, "11.0.0.0": Public, "192.167.255.255": Public,
	} {
		if got := ClassOf(netip.MustParseAddr(text)); got != want {
			t.Errorf("%s is %s, not %s", text, got, want)
		}
	}
}

func TestPermit(t *testing.T) {
	own := Named{"printer.example.org": {Public}, "inside.example.org": {Private}, "10.1.2.3": {Private}, "old": {Any}}
	list := List{"*.partner.example", "192.168.7.0/24", "[fd00::7]:80", "meta:8080"}
	for _, c := range []struct {
		host, port, ip string
		permitted      bool
	}{
		{"printer.example.org", "80", "8.8.4.4", true},
		{"PRINTER.example.org.", "80", "8.8.4.4", true},
		{"printer.example.org", "80", "10.0.0.1", false}, // the name was changed
		{"printer.example.org", "80", "127.0.0.1", false},
		{"printer.example.org", "80", "169.254.169.254", false},
		{"printer.example.org", "80", "192.168.7.9", true}, // the list names the range
		{"inside.example.org", "80", "10.0.0.1", true},
		{"inside.example.org", "80", "127.0.0.1", false},
		{"inside.example.org", "80", "8.8.4.4", true},
		{"10.1.2.3", "80", "10.1.2.3", true},
		{"old", "80", "127.0.0.1", true},
		{"elsewhere.example", "80", "8.8.4.4", false}, // redirected to, or out of a message
		{"a.partner.example", "80", "8.8.4.4", true},
		{"a.b.partner.example", "80", "10.0.0.1", true}, // by its name, whatever that comes to
		{"partner.example", "80", "8.8.4.4", false},
		{"xpartner.example", "80", "8.8.4.4", false},
		{"seven", "80", "fd00::7", true},
		{"seven", "81", "fd00::7", false},
		{"meta", "8080", "169.254.169.254", true},
		{"meta", "80", "169.254.169.254", false},
	} {
		err := Permit(own, list, c.host, c.port, netip.MustParseAddr(c.ip))
		if (err == nil) != c.permitted || err != nil && !errors.Is(err, ErrRefused) {
			t.Errorf("%s:%s at %s: %v", c.host, c.port, c.ip, err)
		}
	}
}

func TestListsAreChecked(t *testing.T) {
	for _, line := range []string{"", "a b", "host:x", "10.0.0.0/33", "[::1", "http://x", "*.", "a/b"} {
		if (List{line}).Check() == nil {
			t.Errorf("%q passes", line)
		}
	}
	if err := (List{"a.example", "*.b.example:443", "10.0.0.0/8", "::1", "[::1]:80", "fd00::/8"}).Check(); err != nil {
		t.Error(err)
	}
}
