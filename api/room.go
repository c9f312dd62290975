package api

import (
	"time"

	"github.com/gin-gonic/gin"

	"readyferry/engine/intake"
)

// roomView is how much room there is for messages, in bytes.
type roomView struct {
	Free       int64      `json:"free"`
	Disk       int64      `json:"disk"`
	Journal    int64      `json:"journal"`
	MinFree    int64      `json:"minFree"`    // that counts now
	Usual      bool       `json:"usual"`      // nobody has set how much is to stay free
	MaxJournal int64      `json:"maxJournal"` // 0: not bounded
	Since      *time.Time `json:"since"`      // since when nothing is taken in
	Why        string     `json:"why"`
}

// room tells how much room there is, and whether messages are taken in.
func (s *Server) room(c *gin.Context) error {
	r := s.engine.Intake.RoomOfAll()
	usual := r.RoomLimits.MinFree == nil
	return reply(c, roomView{r.Free, r.Disk, r.Journal, r.MinFree, usual, r.MaxJournal, r.Since, r.Why})
}

// putRoom says when the disk counts as short.
func (s *Server) putRoom(c *gin.Context) error {
	var l intake.RoomLimits
	if err := input(c, &l); err != nil {
		return err
	}
	if err := s.engine.Intake.SetRoomLimits(c.Request.Context(), l); err != nil {
		return err
	}
	return s.room(c)
}
