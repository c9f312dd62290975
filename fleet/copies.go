package fleet

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"readyferry/store"
)

// sendCopy gives another member the journal as this one has it.
func (n *Node) sendCopy(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Trailer", "Complete")
	if _, err := store.WriteCopy(r.Context(), n.Dir, w); err != nil {
		n.Log.Error("giving another member a copy", "error", err)
		panic(http.ErrAbortHandler) // who takes it must not think that it is whole
	}
	w.Header().Set("Complete", "yes")
}

// fetch takes a copy of the journal from another member in place of the own one.
func (n *Node) fetch() error {
	n.mu.Lock()
	var from string
	var most int64 = -1
	for _, h := range n.there() {
		if h.Name != n.File.This && h.Log != "" && h.At > most && (h.State == StateFollows || h.State == StateLeads) {
			from, most = h.Name, h.At
		}
	}
	n.mu.Unlock()
	if from == "" {
		return errors.New(
			"the log does not go back to where this copy stands, and no member is there that gives another",
		)
	}
	n.set(StateCopies, "")
	n.Log.Info("taking a copy of the journal", "partition", n.part, "from", from)
	client := &http.Client{Transport: n.transport()}
	req, err := http.NewRequestWithContext(
		n.ctx,
		http.MethodGet,
		"https://"+n.File.Member(from).Door+copyPath+"?partition="+strconv.Itoa(n.part),
		nil,
	)
	if err != nil {
		return err
	}
	res, err := client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("%s gives no copy: %s", from, res.Status)
	}
	if err := store.Discard(n.Dir); err != nil {
		return err
	}
	whole := &wholeBody{res: res}
	return store.TakeCopy(n.Dir, whole)
}

// wholeBody is the body of an answer that is whole only where its end says so.
type wholeBody struct{ res *http.Response }

// Read implements io.Reader.
func (b *wholeBody) Read(p []byte) (int, error) {
	n, err := b.res.Body.Read(p)
	if errors.Is(err, io.EOF) && b.res.Trailer.Get("Complete") != "yes" {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}
