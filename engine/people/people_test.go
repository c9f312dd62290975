package people

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"readyferry/core/access"
	"readyferry/standin/issuer"
	"readyferry/store"
)

func open(t *testing.T, c Config) *People {
	t.Helper()
	s, err := store.OpenUnsynced(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Close() })
	c.Store, c.Log = s, slog.New(slog.NewTextHandler(io.Discard, nil))
	if c.Now == nil {
		c.Now = func() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }
	}
	return New(c)
}

const good = "otter lamp violin"

func owner(t *testing.T, p *People) {
	t.Helper()
	secret, err := p.First(t.Context())
	if err != nil || secret == "" {
		t.Fatal(secret, err)
	}
	if _, err := p.Come(t.Context(), secret, "Maud", "Maud L", good); err != nil {
		t.Fatal(err)
	}
}

func signIn(p *People, name, password, from string) (string, error) {
	token, _, err := p.SignIn(context.Background(), name, password, Arrival{From: from}, "")
	return token, err
}

// The first link works once, the newest of them; then there is an owner, and no other link.
func TestTheFirstOwner(t *testing.T) {
	p := open(t, Config{})
	early, err := p.First(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	secret, err := p.First(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{"", "x", early} {
		if _, err := p.Come(t.Context(), bad, "eve", "", good); !errors.Is(err, ErrLink) {
			t.Errorf("%q: %v", bad, err)
		}
	}
	if _, err := p.Come(t.Context(), secret, "no name", "", good); !errors.Is(err, ErrRule) {
		t.Error(err)
	}
	if _, err := p.Come(t.Context(), secret, "maud", "", "maudmaudmaud"); !errors.Is(err, ErrRule) {
		t.Error(err)
	}
	w, err := p.Come(t.Context(), secret, "Maud", "", good)
	if err != nil || w.Name != "maud" || !w.Everywhere(access.Own) || w.Anywhere(access.Unmask) {
		t.Fatalf("%+v %v", w, err)
	}
	if _, err := p.Come(t.Context(), secret, "eve", "", good); !errors.Is(err, ErrLink) {
		t.Errorf("twice: %v", err)
	}
	if again, err := p.First(t.Context()); err != nil || again != "" {
		t.Errorf("another: %q %v", again, err)
	}
}

// Whoever signs in is told once that the way to do so was changed since the time before, by
// whomever; not when nothing was.
func TestAChangeIsTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := open(t, Config{})
		defer p.store.Close()
		owner(t, p)
		told := func() time.Time {
			t.Helper()
			time.Sleep(time.Minute)
			row, err := p.store.Person("maud")
			if err != nil {
				t.Fatal(err)
			}
			token, _, err := p.let(t.Context(), &row, Arrival{From: "192.0.2.1"}, "")
			if err != nil {
				t.Fatal(err)
			}
			w, err := p.Who(t.Context(), token, "")
			if err != nil {
				t.Fatal(err)
			}
			return w.Changed
		}
		told()
		if at := told(); !at.IsZero() {
			t.Errorf("nothing was changed, and %s is told", at)
		}
		time.Sleep(time.Minute)
		if err := p.Change(t.Context(), "maud", good, "seven other quiet words", ""); err != nil {
			t.Fatal(err)
		}
		row, err := p.store.Person("maud")
		if err != nil {
			t.Fatal(err)
		}
		changed := row.ChangedAt
		if at := told(); !at.Equal(changed) {
			t.Errorf("%s is told, not %s", at, changed)
		}
		if at := told(); !at.IsZero() {
			t.Errorf("%s is told twice", at)
		}
	})
}

// Sessions end when they are not used, at the latest after a time, and each begins under a text
// that nobody knew before: one that a stranger has put into the browser is not taken over.
func TestSessions(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := open(t, Config{Idle: 30 * time.Minute, Longest: 2 * time.Hour})
		defer p.store.Close()
		owner(t, p)
		planted, err := signIn(p, "maud", good, "192.0.2.1")
		if err != nil {
			t.Fatal(err)
		}
		token, _, err := p.SignIn(t.Context(), "maud", good, Arrival{From: "192.0.2.1"}, planted)
		if err != nil || token == planted {
			t.Fatal("the text goes on", err)
		}
		if _, err := p.Who(t.Context(), planted, ""); !errors.Is(err, ErrNotSignedIn) {
			t.Errorf("the one before is still good: %v", err)
		}
		for range 5 { // used again and again it stands until the latest end
			time.Sleep(20 * time.Minute)
			if _, err := p.Who(t.Context(), token, ""); err != nil {
				t.Fatal(err)
			}
		}
		time.Sleep(21 * time.Minute)
		if _, err := p.Who(t.Context(), token, ""); !errors.Is(err, ErrNotSignedIn) {
			t.Errorf("it outlives its latest end: %v", err)
		}
		token, err = signIn(p, "maud", good, "192.0.2.1")
		if err != nil {
			t.Fatal(err)
		}
		time.Sleep(31 * time.Minute)
		if _, err := p.Who(t.Context(), token, ""); !errors.Is(err, ErrNotSignedIn) {
			t.Errorf("it stands without use: %v", err)
		}
		rows, err := p.store.Sessions("maud")
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range rows {
			if r.Token == token || r.Token == planted {
				t.Error("the token itself is kept")
			}
		}
	})
}

// Whoever is ended, removed or signed out, or changes the password, is out at once.
func TestWhoIsOutIsOut(t *testing.T) {
	p := open(t, Config{})
	owner(t, p)
	out := func(what string, do func(name, token string) error) {
		t.Helper()
		if err := p.Save(t.Context(), "otto", "", []access.Grant{{Role: access.Reader, Area: "*"}}, false); err != nil {
			t.Fatal(err)
		}
		token, _, err := p.Enter(t.Context(), "otto", Arrival{}, "")
		if err != nil {
			t.Fatal(err)
		}
		if err := do("otto", token); err != nil {
			t.Fatal(what, err)
		}
		if _, err := p.Who(t.Context(), token, ""); !errors.Is(err, ErrNotSignedIn) {
			t.Errorf("%s: %v", what, err)
		}
	}
	out("ended", func(name, _ string) error { return p.Save(t.Context(), name, "", nil, true) })
	out("signed out", func(_, token string) error { return p.SignOut(t.Context(), token) })
	out("signed out by an owner", func(name, _ string) error { return p.End(t.Context(), name, "", "") })
	out("a password by a link", func(name, _ string) error {
		secret, err := p.Invite(t.Context(), name)
		if err == nil {
			_, err = p.Come(t.Context(), secret, "", "", good)
		}
		return err
	})
	out("a changed password", func(name, _ string) error {
		return p.Change(t.Context(), name, good,
			"seven grey herons", "none")
	})
	out("removed", func(name, _ string) error { return p.Remove(t.Context(), name) })
	for what, err := range map[string]error{
		"removing the last owner": p.Remove(t.Context(), "maud"),
		"ending the last owner":   p.Save(t.Context(), "maud", "", []access.Grant{{Role: access.Owner, Area: "*"}}, true),
		"demoting the last owner": p.Save(t.Context(), "maud", "", []access.Grant{{Role: access.Reader, Area: "*"}}, false),
	} {
		if !errors.Is(err, ErrRule) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// Guessing at one account locks it, longer each time; guessing one password at many accounts makes
// the address wait, and others from elsewhere do not.
func TestGuessing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		p := open(t, Config{})
		defer p.store.Close()
		owner(t, p)
		var locked *LockedError
		for i := range failuresFree {
			_, err := signIn(p, "maud", "wrong", "192.0.2.1")
			if i < failuresFree-1 && !errors.Is(err, ErrWrong) || i == failuresFree-1 && !errors.As(err, &locked) {
				t.Fatalf("failure %d: %v", i, err)
			}
		}
		if _, err := signIn(p, "maud", good, "198.51.100.1"); !errors.As(err, &locked) {
			t.Errorf("the right password gets in: %v", err)
		}
		time.Sleep(lockedFirst)
		if _, err := signIn(p, "maud", "wrong", "192.0.2.1"); !errors.As(err, &locked) ||
			time.Until(locked.Until) != 2*lockedFirst {
			t.Errorf("the next lock: %v", err)
		}
		time.Sleep(2 * lockedFirst)
		if _, err := signIn(p, "maud", good, "192.0.2.1"); err != nil {
			t.Errorf("behind the lock: %v", err)
		}
		for i := range guessedMost { // sprayed over names that are not there
			if _, err := signIn(p, string(rune('a'+i%26)), "Winter2026!!",
				"2001:db8::"+string(rune('1'+i%9))); errors.As(err, &locked) {
				t.Fatalf("after %d: %v", i, err)
			}
		}
		if _, err := signIn(p, "maud", good, "2001:db8::ffff"); !errors.As(err, &locked) {
			t.Errorf("the network goes on: %v", err)
		}
		if _, err := signIn(p, "maud", good, "192.0.2.1"); err != nil {
			t.Errorf("others wait, too: %v", err)
		}
		time.Sleep(guessedFor)
		if _, err := signIn(p, "maud", good, "2001:db8::ffff"); err != nil {
			t.Errorf("the network waits for ever: %v", err)
		}
	})
}

// A name that is not there, and one that is, are answered alike.
func TestNamesAreNotTold(t *testing.T) {
	p := open(t, Config{})
	owner(t, p)
	if err := p.Save(t.Context(), "ended", "", nil, true); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"maud", "nobody", "ended", "", "x'; DROP TABLE people; --"} {
		if _, err := signIn(p, name, "not the password", "192.0.2.1"); !errors.Is(err, ErrWrong) ||
			err.Error() != ErrWrong.Error() {
			t.Errorf("%q: %v", name, err)
		}
	}
}

// Somebody comes by an issuer: known by subject from then on, with the roles that claims give. What was
// begun in another browser, answered twice, or by somebody else's name is not taken.
func TestOpenID(t *testing.T) {
	now := issuer.Somebody{Subject: "1", Name: "Otto.Brandt", Email: "otto@larkfield.example", Groups: []string{"desk",
		"ferry"}}
	i, err := issuer.Start(func() issuer.Somebody { return now })
	if err != nil {
		t.Fatal(err)
	}
	defer i.Close()
	p := open(t, Config{})
	owner(t, p)
	role, err := ParseRoleOf("groups=ferry:operator@circulation")
	if err != nil {
		t.Fatal(err)
	}
	o := &OpenID{Issuer: i.Address, Client: i.Client, Secret: i.Secret, Roles: []RoleOf{role}}
	const back = "http://127.0.0.1:1/back"
	goThere := func() (state, code string) {
		t.Helper()
		to, state, err := o.Begin(t.Context(), back, p.now())
		if err != nil {
			t.Fatal(err)
		}
		res, err := plainClient.Get(to)
		if err != nil || res.StatusCode != http.StatusFound {
			t.Fatal(res, err)
		}
		_ = res.Body.Close()
		u, err := url.Parse(res.Header.Get("Location"))
		if err != nil || u.Query().Get("state") != state {
			t.Fatal(u, err)
		}
		return state, u.Query().Get("code")
	}
	state, code := goThere()
	if _, _, err := p.ByOpenID(t.Context(), o, state, "another browser's", code, Arrival{}, ""); !errors.Is(err, ErrRule) {
		t.Errorf("from another browser: %v", err)
	}
	if _, _, err := p.ByOpenID(t.Context(), o, state, state, code, Arrival{}, ""); !errors.Is(err, ErrRule) {
		t.Errorf("behind that: %v", err)
	}
	state, code = goThere()
	_, w, err := p.ByOpenID(t.Context(), o, state, state, code, Arrival{}, "")
	if err != nil || w.Name != "otto.brandt" || !slices.Equal(w.Grants, []access.Grant{{Role: access.Operator,
		Area: "circulation"}}) {
		t.Fatalf("%+v %v", w, err)
	}
	if _, _, err := p.ByOpenID(t.Context(), o, state, state, code, Arrival{}, ""); !errors.Is(err, ErrRule) {
		t.Errorf("replayed: %v", err)
	}
	now.Name, now.Groups = "renamed", []string{"ferry"}
	state, code = goThere()
	if _, w, err = p.ByOpenID(t.Context(), o, state, state, code, Arrival{}, ""); err != nil || w.Name != "otto.brandt" {
		t.Errorf("the same subject is %+v %v", w, err)
	}
	now.Groups = []string{"desk"}
	state, code = goThere()
	if _, _, err = p.ByOpenID(t.Context(), o, state, state, code, Arrival{}, ""); !errors.Is(err, ErrRule) {
		t.Errorf("without a claim: %v", err)
	}
	now = issuer.Somebody{Subject: "2", Name: "maud", Email: "m@x.example", Groups: []string{"ferry"}}
	state, code = goThere()
	if _, _, err = p.ByOpenID(t.Context(), o, state, state, code, Arrival{}, ""); !errors.Is(err, ErrRule) {
		t.Errorf("under the name of somebody with a password: %v", err)
	}
	o.Roles = nil
	now = issuer.Somebody{Subject: "3", Name: "ines"}
	state, code = goThere()
	if _, _, err = p.ByOpenID(t.Context(), o, state, state, code, Arrival{}, ""); !errors.Is(err, ErrRule) {
		t.Errorf("whom nobody has added: %v", err)
	}
	if err := p.Save(t.Context(), "ines", "", []access.Grant{{Role: access.Reader, Area: "*"}}, false); err != nil {
		t.Fatal(err)
	}
	state, code = goThere()
	if _, w, err = p.ByOpenID(t.Context(), o, state, state, code, Arrival{}, ""); err != nil || w.Name != "ines" {
		t.Errorf("whom an owner has added: %+v %v", w, err)
	}
}
