package expr

import (
	"errors"
	"fmt"
	"regexp"
	"strings"

	"readyferry/core/message"
)

// CompileTemplate reads a template. The error is a *CompileError whose
// position counts within the template.
func (env *Env) CompileTemplate(source string, place Place) (*Template, error) {
	r := &templating{t: &Template{Source: source, place: place}, env: env}
	r.into = &r.t.parts
	if err := r.all(); err != nil {
		return nil, err
	}
	if n := len(r.open); n > 0 {
		b := r.open[n-1]
		return nil, r.fail(b.at, "the "+b.word+" that begins here is not ended", "write ${end} where it ends")
	}
	return r.t, nil
}

// templating reads a template.
type templating struct {
	t             *Template
	env           *Env
	text          strings.Builder // before the next hole
	quoted, query bool
	into          *[]part
	open          []block
}

// block is a loop or a choice that is not ended yet.
type block struct {
	word  string // for or if
	at    int
	env   *Env    // outside of it
	outer *[]part // which holds it as its last part
	other bool    // its else has come
}

func (r *templating) all() error {
	rest, at := r.t.Source, 0
	for {
		open := strings.Index(rest, "${")
		if open < 0 {
			r.literal(rest)
			r.flush()
			return nil
		}
		if open > 0 && rest[open-1] == '$' {
			r.literal(rest[:open-1] + "${")
			rest, at = rest[open+2:], at+open+2
			continue
		}
		r.literal(rest[:open])
		inner, size, ok := hole(rest[open+2:])
		if !ok {
			return r.fail(at+open, "the hole that begins here is not closed", "end it with }, or write $${ for a plain ${")
		}
		if err := r.hole(inner, at+open); err != nil {
			return err
		}
		rest, at = rest[open+2+size:], at+open+2+size
	}
}

// literal adds a text, and notes what it says of the place of the next hole.
func (r *templating) literal(s string) {
	r.text.WriteString(s)
	switch r.t.place {
	case JSONText:
		r.quoted = inString(s, r.quoted)
	case CSVText:
		r.quoted = r.quoted != (strings.Count(s, `"`)%2 == 1)
	}
	r.query = r.query || strings.Contains(s, "?")
}

func (r *templating) flush() {
	if r.text.Len() > 0 {
		*r.into = append(*r.into, part{text: r.text.String()})
		r.text.Reset()
	}
}

func (r *templating) fail(at int, problem, repair string) error {
	line, col := message.Position([]byte(r.t.Source), at)
	return &CompileError{line, col, problem, repair}
}

// compile reads an expression that begins at a place of the template.
func (r *templating) compile(source string, at, behind int, condition bool) (*Program, error) {
	compile := r.env.Compile
	if condition {
		compile = r.env.CompileBool
	}
	p, err := compile(source)
	var bad *CompileError
	if errors.As(err, &bad) {
		line, col := message.Position([]byte(r.t.Source), at)
		moved := *bad
		if moved.Line == 1 {
			moved.Column += col + behind - 1
		}
		moved.Line += line - 1
		return nil, &moved
	}
	if err != nil {
		return nil, err
	}
	r.t.Reads = append(r.t.Reads, p.Reads...)
	r.t.Looks = append(r.t.Looks, p.Looks...)
	r.t.programs = append(r.t.programs, p)
	return p, nil
}

var (
	forWord = regexp.MustCompile(`^\s*for\s+([A-Za-z_]\w*)\s+in\s+`)
	ifWord  = regexp.MustCompile(`^\s*if\s+`)
)

// blocks tells whether loops and choices may stand in a text: in those of documents.
func (p Place) blocks() bool { return p != URLPath && p != HeaderValue }

// hole reads what stands in a hole: a value, or the begin or end of a block.
func (r *templating) hole(inner string, at int) error {
	r.flush()
	word := strings.TrimSpace(inner)
	loop, choice := forWord.FindStringSubmatch(inner), ifWord.FindString(inner)
	switch {
	case loop != nil && r.t.place.blocks():
		return r.begins(inner, at, len(loop[0]), loop[1])
	case choice != "" && r.t.place.blocks():
		return r.begins(inner, at, len(choice), "")
	case word == "end" && (len(r.open) > 0 || r.t.place.blocks()):
		return r.ends(at)
	case word == "else" && r.t.place.blocks():
		return r.otherwise(at)
	}
	p, err := r.compile(inner, at, 2, false)
	if err != nil {
		return err
	}
	*r.into = append(*r.into, part{hole: p, quoted: r.quoted, query: r.query})
	return nil
}

// deepestBlocks is how many loops and choices may stand in one another.
const deepestBlocks = 20

// begins reads the begin of a loop over items of a name, or of a choice.
func (r *templating) begins(inner string, at, size int, name string) error {
	b := block{word: "if", at: at, env: r.env, outer: r.into}
	if len(r.open) >= deepestBlocks {
		return r.fail(at, fmt.Sprintf("loops and choices stand in one another more than %d deep", deepestBlocks), "")
	}
	p, err := r.compile(inner[size:], at, 2+size, name == "")
	if err != nil {
		return err
	}
	next := part{when: p}
	if name != "" {
		b.word, next = "for", part{each: p, name: name}
		if r.env, err = r.env.With(name, "index", "last"); err != nil {
			return r.fail(at, err.Error(), "choose another name")
		}
	}
	*r.into = append(*r.into, next)
	r.open = append(r.open, b)
	r.into = &(*r.into)[len(*r.into)-1].body
	return nil
}

func (r *templating) ends(at int) error {
	n := len(r.open)
	if n == 0 {
		return r.fail(at, "nothing begins that could end here", "remove it")
	}
	b := r.open[n-1]
	r.open, r.into, r.env = r.open[:n-1], b.outer, b.env
	return nil
}

func (r *templating) otherwise(at int) error {
	n := len(r.open)
	if n == 0 || r.open[n-1].word != "if" || r.open[n-1].other {
		return r.fail(at, "an else stands only in an if, and once", "remove it")
	}
	b := &r.open[n-1]
	b.other = true
	r.into = &(*b.outer)[len(*b.outer)-1].other
	return nil
}
