// Draw writes docs/architecture.svg: the packages of the program and the folders
// of web/src, each above all that it imports.
//
// The picture comes from the imports alone, so it cannot say what is not so:
// `go list` names those of Go, the import lines those of TypeScript. An arrow that
// follows from two others is left out. The same tree gives the same bytes.
//
//	go run ./docs/draw > docs/architecture.svg
package main

import (
	"bytes"
	"fmt"
	"html"
	"io/fs"
	"log"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

func main() {
	goSide, err := goImports()
	if err != nil {
		log.Fatal(err)
	}
	webSide, err := webImports("web/src")
	if err != nil {
		log.Fatal(err)
	}
	os.Stdout.Write(draw(goSide, webSide))
}

// A graph has a box for each key, with arrows to what it imports. inside are the
// smaller packages that a box stands for.
type graph struct {
	title  string
	arrows map[string]map[string]bool
	inside map[string][]string
}

func newGraph(title string) *graph {
	return &graph{title, map[string]map[string]bool{}, map[string][]string{}}
}

func (g *graph) add(from, to string) {
	if g.arrows[from] == nil {
		g.arrows[from] = map[string]bool{}
	}
	if to != "" && to != from {
		g.arrows[from][to] = true
	}
}

// goImports reads who imports whom. Each package of engine has a box of its own;
// of the other folders each is one box that names what is in it.
func goImports() (*graph, error) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "./...").Output()
	if err != nil {
		return nil, fmt.Errorf("go list: %w", err)
	}
	box := func(p string) string {
		p = strings.TrimPrefix(p, "readyferry/")
		if strings.HasPrefix(p, "engine/") {
			return p
		}
		return strings.SplitN(p, "/", 2)[0]
	}
	g := newGraph("Go: packages and what they import")
	for line := range strings.Lines(string(out)) {
		f := strings.Fields(line)
		from := box(f[0])
		if from == "docs" || from == "bench" || from == "readyferry" {
			continue
		}
		g.add(from, "")
		if rest := strings.TrimPrefix(f[0], "readyferry/"+from+"/"); rest != f[0] && from != "cmd" {
			g.inside[from] = append(g.inside[from], rest)
		}
		for _, to := range f[1:] {
			if strings.HasPrefix(to, "readyferry/") {
				g.add(from, box(to))
			}
		}
	}
	return g, nil
}

var importLine = regexp.MustCompile(`(?:from |import |import\()"(\.[^"]*)"`)

// webImports reads the folders of the browser's sources; a file that lies beside
// them belongs to the application itself.
func webImports(root string) (*graph, error) {
	g := newGraph("web/src: folders and what they import")
	box := func(p string) string {
		if first, _, deeper := strings.Cut(p, "/"); deeper {
			return first
		}
		return "app"
	}
	err := filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(p, ".ts") && !strings.HasSuffix(p, ".tsx") {
			return err
		}
		text, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		own, err := filepath.Rel(root, p)
		if err != nil {
			return err
		}
		own = filepath.ToSlash(own)
		g.add(box(own), "")
		for _, m := range importLine.FindAllStringSubmatch(string(text), -1) {
			to := path.Join(path.Dir(own), m[1])
			if info, err := os.Stat(filepath.Join(root, to)); err == nil && info.IsDir() {
				to += "/index"
			}
			if !strings.HasSuffix(to, ".css") {
				g.add(box(to), box(to))
				g.add(box(own), box(to))
			}
		}
		return nil
	})
	return g, err
}

// rank is the length of the longest way down; a circle would have none.
func (g *graph) rank(box string, way []string) int {
	if slices.Contains(way, box) {
		log.Fatalf("a circle: %v", append(way, box))
	}
	most := 0
	for to := range g.arrows[box] {
		most = max(most, 1+g.rank(to, append(way, box)))
	}
	return most
}

// direct says whether no other import of from leads to to.
func (g *graph) direct(from, to string) bool {
	for via := range g.arrows[from] {
		if via != to && g.reaches(via, to) {
			return false
		}
	}
	return true
}

func (g *graph) reaches(from, to string) bool {
	for next := range g.arrows[from] {
		if next == to || g.reaches(next, to) {
			return true
		}
	}
	return false
}

const (
	width  = 960 // of the picture, in its own units
	boxW   = 150
	boxH   = 34
	stride = 84 // from one rank to the next
)

type place struct{ x, y, w, h int }

func draw(graphs ...*graph) []byte {
	var body bytes.Buffer
	top := 0
	for _, g := range graphs {
		top = g.draw(&body, top)
	}
	var out bytes.Buffer
	fmt.Fprintf(&out, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%d" height="%d" `+
		`font-family="system-ui, sans-serif" font-size="14">`+"\n", width, top, width, top)
	out.WriteString(`<defs><marker id="tip" viewBox="0 0 8 8" refX="8" refY="4" markerWidth="7" markerHeight="7" ` +
		`orient="auto"><path d="M0 0L8 4L0 8z" fill="#64748b"/></marker></defs>` + "\n")
	fmt.Fprintf(&out, `<rect width="%d" height="%d" fill="#ffffff"/>`+"\n", width, top)
	out.Write(body.Bytes())
	out.WriteString("</svg>\n")
	return out.Bytes()
}

// draw puts the boxes of one rank side by side, the arrows below them, and says
// where the next graph begins.
func (g *graph) draw(out *bytes.Buffer, top int) int {
	ranks := map[int][]string{}
	highest := 0
	for _, box := range slices.Sorted(maps.Keys(g.arrows)) {
		r := g.rank(box, nil)
		ranks[r] = append(ranks[r], box)
		highest = max(highest, r)
	}
	fmt.Fprintf(out, `<text x="24" y="%d" font-weight="600">%s</text>`+"\n", top+30, html.EscapeString(g.title))
	places := map[string]place{}
	bottom := top
	for r := highest; r >= 0; r-- {
		row := ranks[r]
		gap := width / len(row)
		for i, box := range row {
			p := place{gap*i + gap/2, top + 56 + (highest-r)*stride, boxW, boxH}
			if n := len(g.inside[box]); n > 0 {
				p.w = min(gap-24, width-120)
				p.h += 20 * len(wrap(g.inside[box], p.w/8))
			}
			places[box] = p
			bottom = max(bottom, p.y+p.h)
		}
	}
	for _, from := range slices.Sorted(maps.Keys(g.arrows)) {
		for _, to := range slices.Sorted(maps.Keys(g.arrows[from])) {
			if g.direct(from, to) {
				arrow(out, places[from], places[to])
			}
		}
	}
	for _, box := range slices.Sorted(maps.Keys(places)) {
		p := places[box]
		fmt.Fprintf(out, `<rect x="%d" y="%d" width="%d" height="%d" rx="4" fill="#f1f5f9" stroke="#475569"/>`+"\n",
			p.x-p.w/2, p.y, p.w, p.h)
		fmt.Fprintf(out, `<text x="%d" y="%d" text-anchor="middle">%s</text>`+"\n", p.x, p.y+22, box)
		for i, line := range wrap(g.inside[box], p.w/8) {
			fmt.Fprintf(out, `<text x="%d" y="%d" text-anchor="middle" font-size="12" fill="#475569">%s</text>`+"\n",
				p.x, p.y+42+20*i, line)
		}
	}
	return bottom + 40
}

func arrow(out *bytes.Buffer, a, b place) {
	y1, y2 := a.y+a.h, b.y
	mid := (y1 + y2) / 2
	// A wide box is met where the arrow comes from, not in its middle.
	x2 := min(max(a.x, b.x-b.w/2+20), b.x+b.w/2-20)
	fmt.Fprintf(out, `<path d="M%d %dC%d %d %d %d %d %d" fill="none" stroke="#64748b" marker-end="url(#tip)"/>`+"\n",
		a.x, y1, a.x, mid, x2, mid, x2, y2)
}

// wrap joins names to lines of at most so many letters.
func wrap(names []string, letters int) []string {
	var lines []string
	for _, n := range names {
		if last := len(lines) - 1; last >= 0 && len(lines[last])+len(n)+2 <= letters {
			lines[last] += ", " + n
			continue
		}
		lines = append(lines, n)
	}
	return lines
}
