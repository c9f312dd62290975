// Package system is what flows know of the kinds of outside system: which there
// are, and what a flow may say to one. How they are reached is no business of a
// flow; that is in connect.
//
// What may be said is JSON Schema (2020-12), an object with properties. Beside the
// usual keywords, title is what people read, description says more, default is
// what counts where nothing is said, examples are offered, and format says how a
// text is meant: secret, expression, template, duration, path, file, certificate,
// connection or lines. Two keywords are our own: titles names the values of an enum
// for people, and when says with which values of another setting one matters
// ({"kind": ["basic"]}; * stands for any). From these come the checks of documents,
// the forms in the browser, the completion and the help.
package system

import (
	"fmt"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// Kind describes one kind of outside system.
type Kind struct {
	Name    string // as documents say it: http, sql
	Title   string // what people call it
	Summary string // when it is used, in a sentence or two
	// Sentence is how a step with it reads on the sheet; {name} stands for a
	// setting, and what stands in [ ] is left out where its setting is not there.
	Sentence string

	Intake  *message.Node // schema of what an intake says; nil: nothing comes from it
	Deliver *message.Node // of a delivery; nil: nothing goes to it
	Ask     *message.Node // of a question; nil: it cannot be asked
}

// Schema reads a schema that is part of the program; "" is none.
func Schema(src string) *message.Node {
	if src == "" {
		return nil
	}
	r, err := jsonfmt.Decode([]byte(src))
	if err != nil {
		panic(fmt.Sprintf("a schema in the program is no JSON: %v\n%s", err, src))
	}
	return r.Root
}

// Kinds are the kinds that an application has, in the order in which people are
// offered them.
type Kinds []Kind

// Find gives a kind by name.
func (k Kinds) Find(name string) (Kind, bool) {
	for _, one := range k {
		if one.Name == name {
			return one, true
		}
	}
	return Kind{}, false
}

// Properties lists the settings that a schema knows.
func Properties(schema *message.Node) []message.Member {
	if schema == nil || schema.Get("properties") == nil {
		return nil
	}
	return schema.Get("properties").Members
}

// Property gives the schema of one setting, or nil.
func Property(schema *message.Node, name string) *message.Node {
	if schema == nil || schema.Get("properties") == nil {
		return nil
	}
	return schema.Get("properties").Get(name)
}

// Format tells how the text of a setting is meant, or "".
func Format(property *message.Node) string {
	if f := property.Get("format"); f != nil {
		return f.Text
	}
	return ""
}
