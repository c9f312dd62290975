package analyse

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"readyferry/core/expr"
	"readyferry/core/message"
)

func environment(t testing.TB) *expr.Env {
	t.Helper()
	env, err := expr.New()
	if err != nil {
		t.Fatal(err)
	}
	return env
}

// say writes a claim as people would.
func say(c Claim) string {
	return strings.TrimSpace(fmt.Sprint(c.Kind, " ", c.Way, " ", strings.Join(c.By, ",")))
}

func TestClaims(t *testing.T) {
	env := environment(t)
	for _, c := range []struct {
		ways string // name: condition; …
		want string // claims; …, then "?" and the ways that are not decided
	}{
		{`a: body.x == 1; b: body.x == 1`, "shadowed b a; gap"},
		{`a: body.x > 1 && body.x < 1`, "impossible a; gap"},
		{`a: body.x > 1; b: body.x <= 1`, ""},
		{`a: body.x > 1; b: body.x < 1`, "gap"},
		{`a: body.x >= 1; b: body.x <= 1`, "overlap b a"},
		{`a: body.f in ["ebook", "audio"]; b: body.f == "audio"; c: body.f != "ebook"`, "shadowed b a; overlap c a"},
		{`a: body.f.startsWith("LC"); b: body.f.startsWith("LC 4"); c: !body.f.startsWith("L")`, "shadowed b a; gap"},
		{`a: body.n < "b"; b: body.n >= "b" && body.n < "c"; c: body.n >= "c"`, ""},
		{`a: has(body.branch); b: !has(body.branch)`, ""},
		{`a: has(body.p) && body.p.x == 1; b: has(body.p) && has(body.p.x); c: !has(body.p) || !has(body.p.x)`, "overlap b a"},
		{`a: body.open; b: !body.open`, ""},
		{`a: body.?s.orValue("open") == "open"; b: body.?s.orValue("") == ""; c: true`, "overlap b a; overlap c a; overlap c b"},
		{`a: body.x == 1 || body.x == 2; b: body.x == 1; c: body.x == 2; d: body.x in [1, 2]`, "shadowed b a; shadowed c a; shadowed d a; gap"},
		{`a: body.x == 1; b: body.x == 2; c: body.x in [1, 2]`, "shadowed c a,b; gap"},
		{`a: body.y == 1; b: body.x > 0; c: body.x > 0 && body.z`, "overlap b a; shadowed c b; gap"},
		{`a: body.x == body.y; b: body.x == 1`, "? a"},
		{`a: body.lines.exists(l, l.x == 1); b: body.x == 1; c: body.x == 1`, "shadowed c b; ? a"},
		{`a: headers["kind"] == "x"; b: params.p == "1" && headers["kind"] == "x"`, "shadowed b a; gap"},
		{`a: body.x == 1.5; b: body.x == null`, "gap"},
		{`a: body.p == 1; b: body.p.q == 1`, "? a; ? b"},
	} {
		var ways []Way
		for _, w := range strings.Split(c.ways, "; ") {
			name, when, _ := strings.Cut(w, ": ")
			ways = append(ways, Way{name, when})
		}
		r := Route(env, ways, Rules{First: true})
		var got []string
		for _, claim := range r.Claims {
			got = append(got, say(claim))
		}
		for _, u := range r.Undecided {
			got = append(got, "? "+u.Way)
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%s\n got %s\nwant %s\n%+v", c.ways, strings.Join(got, "; "), c.want, r.Undecided)
		}
	}
}

// Everything that is claimed of thousands of random routes is what trying all messages of a
// small world shows, and nothing that this shows is left out.
func TestClaimsAgreeWithTryingEverything(t *testing.T) {
	env := environment(t)
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 11))
	world := everything()
	routes := 2000
	if testing.Short() {
		routes = 300
	}
	for range routes {
		ways := make([]Way, 1+r.IntN(4))
		for i := range ways {
			ways[i] = Way{string(rune('a' + i)), condition(r, 2)}
		}
		rules := Rules{First: r.IntN(4) > 0, Lenient: r.IntN(2) == 0}
		res := Route(env, ways, rules)
		if len(res.Undecided) > 0 {
			t.Fatalf("%+v: %+v", ways, res.Undecided)
		}
		var got []string
		for _, c := range res.Claims {
			got = append(got, say(c))
		}
		want := tried(t, env, ways, rules, world)
		slices.Sort(got)
		slices.Sort(want)
		if !slices.Equal(got, want) {
			t.Fatalf("%+v %+v\nclaimed %q\n  tried %q", ways, rules, got, want)
		}
		for _, c := range res.Claims {
			shows(t, env, ways, rules, c)
		}
	}
}

// shows looks whether the proof of a claim shows it.
func shows(t *testing.T, env *expr.Env, ways []Way, rules Rules, c Claim) {
	t.Helper()
	if c.Kind == Impossible {
		return
	}
	row := asked(t, env, ways, rules, c.Proof)
	by := func(name string) byte { return row[slices.IndexFunc(ways, func(w Way) bool { return w.Name == name })] }
	switch {
	case c.Kind == Gap && (slices.Contains(row, yes) || slices.Contains(row, fails)):
	case c.Kind != Gap && (by(c.Way) != yes || !slices.ContainsFunc(c.By, func(n string) bool { return by(n) == yes })):
	default:
		return
	}
	t.Fatalf("%+v: %v is no proof of %+v", ways, row, c)
}

func compiled(t *testing.T, env *expr.Env, ways []Way) (programs []*expr.Program, known []int) {
	t.Helper()
	for i, w := range ways {
		p, err := env.CompileBool(w.When)
		if err != nil {
			t.Fatal(err)
		}
		programs, known = append(programs, p), append(known, i)
	}
	return programs, known
}

func asked(t *testing.T, env *expr.Env, ways []Way, rules Rules, m *Proof) []byte {
	t.Helper()
	programs, known := compiled(t, env, ways)
	return answers(programs, known, m, rules.Lenient)
}

// tried says of a route what all messages of a world show.
func tried(t *testing.T, env *expr.Env, ways []Way, rules Rules, world []*Proof) (out []string) {
	t.Helper()
	programs, known := compiled(t, env, ways)
	fits, takes := make([]bool, len(ways)), make([]bool, len(ways))
	over, gap := map[[2]int]bool{}, false
	by := make([]map[int]bool, len(ways))
	for _, m := range world {
		row := answers(programs, known, m, rules.Lenient)
		taker := slices.IndexFunc(row, func(b byte) bool { return b != no })
		gap = gap || taker < 0
		for i, answer := range row {
			if answer != yes {
				continue
			}
			fits[i] = true
			for j := range i {
				if row[j] != yes {
					over[[2]int{j, -1 - i}] = true // it does not fit all that this one fits
				}
			}
			if !rules.First || i == taker {
				takes[i] = true
			} else if row[taker] == yes {
				over[[2]int{i, taker}] = true
				if by[i] == nil {
					by[i] = map[int]bool{}
				}
				by[i][taker] = true
			}
		}
	}
	for i, w := range ways {
		switch {
		case takes[i]:
			for j := range i {
				if over[[2]int{i, j}] {
					out = append(out, say(Claim{Kind: Overlap, Way: w.Name, By: []string{ways[j].Name}}))
				}
			}
		case len(by[i]) == 0:
			out = append(out, say(Claim{Kind: Impossible, Way: w.Name}))
		default:
			c := Claim{Kind: Shadowed, Way: w.Name}
			alone := -1
			for j := range i {
				if by[i][j] && alone < 0 && !over[[2]int{j, -1 - i}] {
					alone = j
				}
			}
			for j := range i {
				if by[i][j] && (alone < 0 || alone == j) {
					c.By = append(c.By, ways[j].Name)
				}
			}
			out = append(out, say(c))
		}
	}
	if gap {
		out = append(out, string(Gap))
	}
	return out
}

// condition makes one up over a number, a text and a boolean.
func condition(r *rand.Rand, deep int) string {
	if deep > 0 && r.IntN(3) > 0 {
		a, b := condition(r, deep-1), condition(r, deep-1)
		return []string{"(" + a + " && " + b + ")", "(" + a + " || " + b + ")", "!(" + a + ")", "(" + a + " ? " + b + " : " + b + ")"}[r.IntN(4)]
	}
	pick := func(all ...string) string { return all[r.IntN(len(all))] }
	order := pick("==", "!=", "<", "<=", ">", ">=")
	n, s := pick("0", "1", "2", "1.5"), pick(`"a"`, `"ab"`, `"b"`)
	return pick(
		"body.n "+order+" "+n,
		n+" "+order+" body.n",
		"body.n in [0, "+n+"]",
		"has(body.n)",
		"body.s "+order+" "+s,
		"body.s in ["+s+", \"b\"]",
		"body.s.startsWith("+s+")",
		"has(body.s)",
		`body.?s.orValue("a") == `+s,
		"body.t",
		"!body.t",
		"body.t == true",
		"has(body.t)",
	)
}

// everything is each message of a small world in which no two of the fixed values are neighbours.
func everything() (out []*Proof) {
	numbers := []*message.Node{nil}
	for _, n := range []string{"-1", "0", "0.5", "1", "1.25", "1.5", "1.75", "2", "3"} {
		numbers = append(numbers, message.NewNumber(n))
	}
	texts := []*message.Node{nil}
	for _, s := range []string{"", "a", "aa", "ab", "abc", "ac", "b", "ba", "c", "cc"} {
		texts = append(texts, message.NewString(s))
	}
	for _, n := range numbers {
		for _, s := range texts {
			for _, b := range []*message.Node{nil, message.NewBool(true), message.NewBool(false)} {
				body := message.NewMap()
				for name, v := range map[string]*message.Node{"n": n, "s": s, "t": b} {
					if v != nil {
						body = body.With(name, v)
					}
				}
				out = append(out, &Proof{Body: body, Headers: message.NewMap()})
			}
		}
	}
	return out
}
