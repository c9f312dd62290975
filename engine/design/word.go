package design

import (
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"readyferry/core/plan"
)

// Word is what whoever publishes says of it.
type Word struct {
	By      string // a name
	Person  bool   // it is of somebody who is there, not of a program
	Note    string // for those who come after
	Despite string // why it goes live though samples are not as expected
	Sure    bool   // messages that are left in a queue may stay there
	// At is when the version goes live; zero: at once.
	At time.Time
	// Share is of how many messages it takes one, beside the live version; 0: it takes all.
	Share int
}

// longest is how long each part of a word may be, in letters.
const longest = 2000

// ErrWord is what a word gets that is too long.
var ErrWord = errors.New("what is said of a version is too long")

// UnexpectedError says that samples come to something else than was expected of them.
type UnexpectedError struct{ Samples []string }

func (e *UnexpectedError) Error() string {
	if len(e.Samples) == 1 {
		return fmt.Sprintf("the sample %s is not as expected; say why it is published all the same", e.Samples[0])
	}
	return fmt.Sprintf("%d samples are not as expected (%s); say why it is published all the same",
		len(e.Samples), strings.Join(e.Samples, ", "))
}

// asExpected gives an *UnexpectedError for a draft under which samples come to something else
// than expected, unless the word says why. Where they do not, the word needs no why.
func (g *Designs) asExpected(name string, p *plan.Plan, word *Word) error {
	for _, part := range []string{word.By, word.Note, word.Despite} {
		if n := utf8.RuneCountInString(part); n > longest {
			return fmt.Errorf("%w: %d letters of at most %d", ErrWord, n, longest)
		}
	}
	samples, err := g.Catalog.Samples(name)
	if err != nil {
		return err
	}
	var others []string
	for _, r := range g.rehearse(p, name, samples, func(string) bool { return false }) {
		if r.Expected == "differs" {
			others = append(others, r.Sample)
		}
	}
	switch {
	case len(others) == 0:
		word.Despite = ""
	case strings.TrimSpace(word.Despite) == "":
		return &UnexpectedError{others}
	}
	return nil
}
