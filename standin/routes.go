package standin

import (
	"encoding/json"
	"strings"
)

// Route is what a stand-in answers to one kind of call.
type Route struct {
	Method string `json:"method"`
	// Path has {name} for a segment that may be anything; ${name} in Body is
	// then what stood there.
	Path   string `json:"path"`
	Status int    `json:"status"` // that of the definition when 0
	Body   string `json:"body"`
}

// route gives the first route that fits a call, with what its names stand for.
func (d *Definition) route(method, path string) (*Route, map[string]string) {
	path, _, _ = strings.Cut(path, "?")
	have := strings.Split(strings.Trim(path, "/"), "/")
	for i := range d.Routes {
		r := &d.Routes[i]
		want := strings.Split(strings.Trim(r.Path, "/"), "/")
		if r.Method != method || len(want) != len(have) {
			continue
		}
		names, fits := map[string]string{}, true
		for j, w := range want {
			if strings.HasPrefix(w, "{") && have[j] != "" {
				names[strings.Trim(w, "{}")] = have[j]
			} else if w != have[j] {
				fits = false
			}
		}
		if fits {
			return r, names
		}
	}
	return nil, nil
}

// fill puts values into ${name} holes, escaped for JSON.
func fill(text string, names map[string]string) string {
	for name, value := range names {
		b, _ := json.Marshal(value)
		text = strings.ReplaceAll(text, "${"+name+"}", string(b[1:len(b)-1]))
	}
	return text
}
