// Package readyferry_test checks that imports point down, and that core stays
// pure:
//
//	cmd → api → engine → intake, lane, design, watch → perform → journal →
//	catalog → store, connect → core
package readyferry_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

type pkg struct {
	ImportPath string
	Imports    []string
	Deps       []string
}

func packages(t *testing.T) []pkg {
	t.Helper()
	cmd := exec.Command("go", "list", "-deps", "-json=ImportPath,Imports,Deps", "./...")
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	var all []pkg
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p pkg
		if err := d.Decode(&p); err == io.EOF {
			return all
		} else if err != nil {
			t.Fatal(err)
		}
		if strings.HasPrefix(p.ImportPath, "readyferry/") {
			all = append(all, p)
		}
	}
}

// Each layer may import those below it, and itself.
var layers = []string{"core", "worker", "store", "connect", "standin", "engine", "tracing", "runner", "fleet",
	"web", "demo", "api", "cmd"}

var mayImport = map[string][]string{
	"core":    {},
	"worker":  {"core"},
	"store":   {"core"},
	"connect": {"core"},
	"standin": {"core"},
	"engine":  {"store", "connect", "standin", "core"},
	"tracing": {"store", "core"},
	"runner":  {"engine", "store", "connect", "core"},
	"fleet":   {"store", "core"},
	"web":     {},
	"demo":    {"engine", "standin", "core"},
	"api": {"fleet", "runner", "engine", "standin", "connect",
		"core"}, // never the store: it reads through engine/watch
	"cmd": {"fleet", "worker", "runner", "api", "engine", "tracing", "store", "connect", "standin", "demo", "web",
		"core"},
	"bench": {"runner", "api", "engine", "store", "connect", "standin", "core"},
	"docs":  {},
}

// Within engine. Those of one rank do not know each other.
var engineRank = map[string]int{
	"waker": 1,
	"audit": 1,

	"people/password": 1,
	"people":          2,

	"catalog": 1,
	"journal": 2,
	"perform": 3,
	"verify":  3,
	"intake":  4,
	"lane":    4,
	"design":  4,
	"watch":   4,
	"repair":  5,
	"bundle":  5,
	"erase":   5,
	"alarm":   5,
	"":        6,
}

// Within core: run → plan → step → flow, schema → expr, pointer, xpath, format → message.
var coreOrder = []string{
	"trace",
	"cause",
	"alarm",
	"hours",
	"find",
	"access",
	"outbound",
	"message",
	"format",
	"mask",
	"cloudevents",
	"records",
	"mail",
	"xpath",
	"retry",
	"script",
	"timing",
	"pointer",
	"expr",
	"analyse",
	"forms",
	"schema",
	"flow",
	"config",
	"contract",
	"shape",
	"table",
	"group",
	"want",
	"system",
	"step",
	"plan",
	"run",
	"drill",
}

func rank(t *testing.T, path string) int {
	t.Helper()
	name := strings.TrimPrefix(strings.TrimPrefix(path, "readyferry/engine"), "/")
	r, known := engineRank[name]
	if !known {
		t.Errorf("%s has no rank within engine", path)
	}
	return r
}

func layer(path string) string {
	return strings.SplitN(strings.TrimPrefix(path, "readyferry/"), "/", 2)[0]
}

func TestImportsPointDown(t *testing.T) {
	all := packages(t)
	if len(all) < 15 {
		t.Fatalf("only %d packages were found", len(all))
	}
	for _, p := range all {
		from := layer(p.ImportPath)
		allowed, known := mayImport[from]
		if !known {
			t.Errorf("%s is in no layer; the layers are %v", p.ImportPath, layers)
		}
		for _, i := range p.Imports {
			if !strings.HasPrefix(i, "readyferry/") {
				continue
			}
			if to := layer(i); to != from && !slices.Contains(allowed, to) {
				t.Errorf("%s imports %s, which points up", p.ImportPath, i)
			}
			if from == "engine" && layer(i) == "engine" && rank(t, p.ImportPath) <= rank(t, i) {
				t.Errorf("%s imports %s, which points up within engine", p.ImportPath, i)
			}
			if from == "core" && layer(i) == "core" {
				a := slices.Index(coreOrder, strings.Split(p.ImportPath, "/")[2])
				b := slices.Index(coreOrder, strings.Split(i, "/")[2])
				if a < 0 || b < 0 || a < b {
					t.Errorf("%s imports %s, which points up within core", p.ImportPath, i)
				}
			}
		}
	}
}

// core has no interface, store, network, file or clock of its own. What is embedded is part
// of the program.
func TestCoreIsPure(t *testing.T) {
	forbidden := []string{
		"os",
		"os/exec",
		"net",
		"net/http",
		"database/sql",
		"math/rand",
		"math/rand/v2",
		"crypto/rand",
		"io/fs",
		"syscall",
	}
	for _, p := range packages(t) {
		if layer(p.ImportPath) != "core" {
			continue
		}
		for _, i := range p.Imports {
			seeded := p.ImportPath == "readyferry/core/drill" &&
				i == "math/rand/v2" // chance that is asked for, by its seed
			if slices.Contains(forbidden, i) && !seeded {
				t.Errorf("%s imports %s", p.ImportPath, i)
			}
		}
		for _, d := range p.Deps {
			if strings.HasPrefix(d, "gorm.io/") || strings.Contains(d, "gin-gonic") || strings.Contains(d, "sqlite") {
				t.Errorf("%s depends on %s", p.ImportPath, d)
			}
		}
	}
	fset := token.NewFileSet()
	err := filepath.WalkDir("core", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(fset, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(f, func(n ast.Node) bool {
			s, ok := n.(*ast.SelectorExpr)
			if x, isIdent := safeIdent(s, ok); isIdent && x == "time" &&
				slices.Contains(
					[]string{"Now", "Since", "Until", "Sleep", "After", "NewTimer", "NewTicker"},
					s.Sel.Name,
				) {
				t.Errorf("%s uses time.%s", fset.Position(n.Pos()), s.Sel.Name)
			}
			if _, isGo := n.(*ast.GoStmt); isGo {
				t.Errorf("%s starts a goroutine", fset.Position(n.Pos()))
			}
			if fn, isFunc := n.(*ast.FuncDecl); isFunc && fn.Name.Name == "init" && fn.Recv == nil {
				t.Errorf("%s is an init", fset.Position(n.Pos()))
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

func safeIdent(s *ast.SelectorExpr, ok bool) (string, bool) {
	if !ok {
		return "", false
	}
	x, isIdent := s.X.(*ast.Ident)
	if !isIdent {
		return "", false
	}
	return x.Name, true
}
