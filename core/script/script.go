// Package script runs a small piece of JavaScript (ECMAScript, as goja
// implements it) on one message, in a sandbox: there is nothing to read or
// write with, no clock and no randomness, so the same message gives the same
// answer. Each run has a world of its own, which ends with it.
//
// What a script may use is bounded: its time, the memory that it holds on to,
// the depth of its calls, and the size of what single built-in functions make,
// because those cannot be interrupted. Where that is not enough, a Runner runs it in
// a process of its own, which can be ended from outside.
package script

import (
	"errors"
	"fmt"
	"math/big"
	"reflect"
	"regexp"
	"runtime"
	"runtime/metrics"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/dlclark/regexp2/v2"
	"github.com/dop251/goja"
	"github.com/dop251/goja/ast"
	"github.com/dop251/goja/parser"

	jsonfmt "readyferry/core/format/json"
	"readyferry/core/message"
)

// What a script may use.
const (
	MaxSource    = 256 << 10 // bytes
	DefaultTime  = 200 * time.Millisecond
	MaxTime      = 2 * time.Second
	MaxMemory    = 64 << 20 // bytes that it holds on to
	MaxDepth     = 512      // of calls
	MaxResult    = 16 << 20 // bytes of its result as JSON
	checkMemory  = time.Millisecond
	wrapperLines = 1
)

// Names are what a script sees, each a value of the message.
var names = []string{
	"body",
	"headers",
	"params",
	"query",
	"message",
	"vars",
	"replies",
	"part",
	"index",
	"group",
	"caught",
	"letter",
	"now",
}

// Sandbox runs scripts, one at a time: what they hold on to is measured for the
// whole process. Make one and share it.
type Sandbox struct {
	// Runner runs the scripts elsewhere, in a process of their own; nil: here.
	Runner Runner

	mu      sync.Mutex
	prelude *goja.Program
	samples []metrics.Sample
}

// Runner runs a script on what it sees, JSON by name, and gives its result as JSON. An
// error that wraps ErrLimit says that the script used more than it may.
type Runner interface {
	Run(source string, limit time.Duration, in []byte) ([]byte, error)
}

// NewSandbox makes a sandbox.
func NewSandbox() (*Sandbox, error) {
	p, err := goja.Compile("prelude", prelude, true)
	if err != nil {
		return nil, fmt.Errorf("the sandbox's own script: %w", err)
	}
	// Expressions with look-around go back and forth; the library has one time
	// limit for all of them, and no other way in.
	regexp2.DefaultMatchTimeout = DefaultTime
	return &Sandbox{prelude: p, samples: []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}}, nil
}

// Program is a script that can be run. It is safe for concurrent use.
type Program struct {
	sandbox *Sandbox
	program *goja.Program
	source  string
	limit   time.Duration
}

// SyntaxError is where a script cannot be read.
type SyntaxError struct {
	Line, Column int
	Message      string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Message)
}

// Compile reads a script: the body of a function that returns its result.
func (s *Sandbox) Compile(source string, limit time.Duration) (*Program, error) {
	if len(source) > MaxSource {
		return nil, fmt.Errorf("the script has %d bytes; at most %d are taken", len(source), MaxSource)
	}
	wrapped := "(function (" + strings.Join(names, ", ") + ") { \"use strict\";\n" + source + "\n})"
	parsed, err := parser.ParseFile(nil, "script", wrapped, 0)
	if err != nil {
		return nil, position(err)
	}
	if len(parsed.Body) != 1 {
		return nil, errors.New("the script is more than the body of one function: its braces do not match")
	}
	if line := bigLiteral(reflect.ValueOf(parsed), map[uintptr]bool{}, wrapped); line > 0 {
		return nil, &SyntaxError{line - wrapperLines, 1, "whole numbers without bounds (10n) are not allowed"}
	}
	p, err := goja.CompileAST(parsed, true)
	if err != nil {
		return nil, position(err)
	}
	if limit <= 0 {
		limit = DefaultTime
	}
	return &Program{s, p, source, min(limit, MaxTime)}, nil
}

var place = regexp.MustCompile(`Line (\d+):(\d+) (.*)`)

// position says where in the script, not in what stands around it.
func position(err error) error {
	m := place.FindStringSubmatch(err.Error())
	if m == nil {
		return err
	}
	line, _ := strconv.Atoi(m[1])
	column, _ := strconv.Atoi(m[2])
	text, _, _ := strings.Cut(m[3], " (and ")
	return &SyntaxError{max(1, line-wrapperLines), column, text}
}

// bigLiteral finds the line of a literal such as 10n: arithmetic on those
// cannot be interrupted.
func bigLiteral(v reflect.Value, seen map[uintptr]bool, source string) int {
	switch v.Kind() {
	case reflect.Interface:
		return bigLiteral(v.Elem(), seen, source)
	case reflect.Pointer:
		if v.IsNil() || seen[v.Pointer()] {
			return 0
		}
		seen[v.Pointer()] = true
		if n, ok := v.Interface().(*ast.NumberLiteral); ok {
			if _, isBig := n.Value.(*big.Int); isBig {
				return 1 + strings.Count(source[:min(len(source), max(0, int(n.Idx)-1))], "\n")
			}
		}
		return bigLiteral(v.Elem(), seen, source)
	case reflect.Slice:
		for i := range v.Len() {
			if line := bigLiteral(v.Index(i), seen, source); line > 0 {
				return line
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() {
				if line := bigLiteral(v.Field(i), seen, source); line > 0 {
					return line
				}
			}
		}
	}
	return 0
}

// ErrLimit is wrapped by the error of a script that used more than it may.
var ErrLimit = errors.New("the script was stopped")

// Run runs the script on a message. in holds what it sees by name; what is not
// there is undefined. Numbers become those of JavaScript: whole ones beyond
// 2⁵³ and the zeros of 0.10 are not kept.
func (p *Program) Run(in map[string]*message.Node) (*message.Node, error) {
	var members []message.Member
	for _, name := range names {
		if in[name] != nil {
			members = append(members, message.Member{Name: name, Value: in[name]})
		}
	}
	seen := jsonfmt.Encode(message.NewMap(members...))
	var text []byte
	var err error
	if p.sandbox.Runner != nil {
		text, err = p.sandbox.Runner.Run(p.source, p.limit, seen)
	} else {
		text, err = p.RunWithin(p.limit, seen)
	}
	if err != nil {
		return nil, err
	}
	r, err := jsonfmt.Decode(text)
	return r.Root, err
}

// RunWithin runs the script here, within a time, on what it sees: a JSON map by name.
// Its result is JSON.
func (p *Program) RunWithin(limit time.Duration, in []byte) (out []byte, err error) {
	p.sandbox.mu.Lock()
	defer p.sandbox.mu.Unlock()
	defer func() {
		if r := recover(); r != nil { // a fault of the engine must not end more than the script
			out, err = nil, fmt.Errorf("the script failed: %v", r)
		}
	}()
	vm := goja.New()
	vm.SetMaxCallStackSize(MaxDepth)
	stop := p.sandbox.watch(vm, limit)
	defer stop()
	tools, err := vm.RunProgram(p.sandbox.prelude)
	if err != nil {
		return nil, plain(err)
	}
	parse, _ := goja.AssertFunction(tools.ToObject(vm).Get("parse"))
	write, _ := goja.AssertFunction(tools.ToObject(vm).Get("write"))
	seen, err := parse(goja.Undefined(), vm.ToValue(string(in)))
	if err != nil {
		return nil, plain(err)
	}
	args := make([]goja.Value, len(names))
	for i, name := range names {
		if args[i] = seen.ToObject(vm).Get(name); args[i] == nil {
			args[i] = goja.Undefined()
		}
	}
	f, err := vm.RunProgram(p.program)
	if err != nil {
		return nil, plain(err)
	}
	call, ok := goja.AssertFunction(f)
	if !ok {
		return nil, errors.New("the script is not the body of a function")
	}
	result, err := call(goja.Undefined(), args...)
	if err != nil {
		return nil, plain(err)
	}
	if _, isPromise := result.Export().(*goja.Promise); isPromise {
		return nil, errors.New("the script returns a promise; there is nothing to wait for, so return the value itself")
	}
	text, err := write(goja.Undefined(), result)
	if err != nil {
		return nil, plain(err)
	}
	if goja.IsUndefined(text) {
		return nil, errors.New("the script returns nothing that JSON can hold; end it with return and a value")
	}
	s := text.String()
	if len(s) > MaxResult {
		return nil, fmt.Errorf("%w: its result has more than %d bytes", ErrLimit, MaxResult)
	}
	return []byte(s), nil
}

// watch interrupts a script that takes too long or holds on to too much.
func (s *Sandbox) watch(vm *goja.Runtime, limit time.Duration) (stop func()) {
	var mu sync.Mutex
	ended := false
	begin := s.live()
	over := time.AfterFunc(limit, func() { vm.Interrupt(fmt.Sprintf("it took longer than %s", limit)) })
	var tick *time.Timer
	mu.Lock()
	tick = time.AfterFunc(checkMemory, func() {
		mu.Lock()
		defer mu.Unlock()
		if ended {
			return
		}
		if s.live() > begin+MaxMemory {
			runtime.GC() // what others and the script itself have let go does not count
			if s.live() > begin+MaxMemory {
				vm.Interrupt(fmt.Sprintf("it holds on to more than %d MiB", MaxMemory>>20))
				return
			}
		}
		tick.Reset(checkMemory)
	})
	mu.Unlock()
	return func() {
		over.Stop()
		mu.Lock()
		defer mu.Unlock()
		ended = true
		tick.Stop()
	}
}

func (s *Sandbox) live() uint64 {
	metrics.Read(s.samples)
	return s.samples[0].Value.Uint64()
}

// at finds the places in a stack that are in the script.
var at = regexp.MustCompile(`script:(\d+):(\d+)`)

// plain says in words what went wrong, and in which line of the script.
func plain(err error) error {
	var stopped *goja.InterruptedError
	if errors.As(err, &stopped) {
		return fmt.Errorf("%w: %v", ErrLimit, stopped.Value())
	}
	var deep *goja.StackOverflowError
	if errors.As(err, &deep) {
		return fmt.Errorf("%w: its calls are more than %d deep", ErrLimit, MaxDepth)
	}
	var thrown *goja.Exception
	if !errors.As(err, &thrown) {
		return err
	}
	text := "it threw " + thrown.Value().String()
	if m := at.FindStringSubmatch(thrown.String()); m != nil {
		line, _ := strconv.Atoi(m[1])
		return fmt.Errorf("line %d: %s", max(1, line-wrapperLines), text)
	}
	return errors.New(text)
}
