package run

import (
	"strings"

	"readyferry/core/message"
	"readyferry/core/step"
)

// ways walks the branches of a route.
func (w *walker) ways(s *step.Compiled, path string, taken []int, st *step.State) progress {
	if !s.Every {
		for _, i := range taken {
			if p := w.block(s.Ways[i].Block, path+"."+s.Ways[i].Name+"/", st); p != done {
				return p
			}
		}
		return done
	}
	// Each way works on its own copy, so that one which waits or dies holds up
	// no other. Replies are kept for the steps after the route.
	stopped, away, start := false, 0, *st
	var reasons []string
	for _, i := range taken {
		own := start
		switch w.block(s.Ways[i].Block, path+"."+s.Ways[i].Name+"/", &own) {
		case blocked:
			stopped = true
		case turnedAway:
			away++
			reasons = append(reasons, w.reason)
		}
		st.Answered = st.Answered || own.Answered
		if own.Replies != nil {
			for _, m := range own.Replies.Members {
				if st.Replies == nil {
					st.Replies = message.NewMap()
				}
				st.Replies = st.Replies.With(m.Name, m.Value)
			}
		}
	}
	switch {
	case stopped:
		return blocked
	case len(taken) > 0 && away == len(taken):
		w.reason = strings.Join(reasons, "; ")
		return turnedAway
	}
	return done
}
