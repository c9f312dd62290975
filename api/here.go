package api

import (
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

// Who looks at a flow says so every few seconds, and hears who else does. It is kept in
// memory, and only for a moment: it is there to avoid surprises, not to lock anything.

const (
	hereFor  = 15 * time.Second // behind the last word of a tab it has gone
	mostHere = 200              // tabs of a flow that are told apart
)

// visitors are the tabs in which flows are looked at.
type visitors struct {
	mu    sync.Mutex
	flows map[string]map[string]visitor
}

type visitor struct {
	by string
	at time.Time
}

// here notes a tab and names the others at the same flow, as they call themselves.
func (v *visitors) here(flow, tab, by string, now time.Time) []string {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.flows == nil {
		v.flows = map[string]map[string]visitor{}
	}
	for name, tabs := range v.flows {
		for id, one := range tabs {
			if now.Sub(one.at) > hereFor {
				delete(tabs, id)
			}
		}
		if len(tabs) == 0 {
			delete(v.flows, name)
		}
	}
	tabs := v.flows[flow]
	if tabs == nil {
		tabs = map[string]visitor{}
		v.flows[flow] = tabs
	}
	if _, known := tabs[tab]; known || len(tabs) < mostHere {
		tabs[tab] = visitor{by, now}
	}
	out := []string{}
	for id, one := range tabs {
		if id != tab {
			out = append(out, one.by)
		}
	}
	slices.Sort(out)
	return out
}

func (s *Server) here(c *gin.Context) error {
	var in struct {
		Tab string `json:"tab"`
		By  string `json:"by"`
	}
	if err := input(c, &in); err != nil {
		return err
	}
	if in.Tab == "" || len(in.Tab) > 64 || len(in.By) > 200 {
		return bad("tab has 1 to 64 letters, and by at most 200")
	}
	if _, err := s.engine.Watch.Flow(c.Param("name")); err != nil {
		return err
	}
	by := strings.TrimSpace(s.by(c, in.By))
	if by == "" {
		by = "somebody"
	}
	return reply(c, s.visitors.here(c.Param("name"), in.Tab, by, time.Now()))
}
