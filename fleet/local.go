package fleet

import (
	"time"
	"unsafe"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
)

// A member that keeps a replica of the log has every record on its own disk as soon as a majority has it. Asked for
// records, the engines of the log answer in turn, whoever asks: two of three would come over the network once more. So
// the replica is read where it is, by the two functions that the engine itself reads it with; they have no public name,
// and where a later engine lacks them this does not link. What they give is what the engine would answer from here:
// nothing that a majority does not have.

//go:linkname streamIn github.com/nats-io/nats-server/v2/server.(*Account).lookupStream
func streamIn(account *server.Account, name string) (unsafe.Pointer, error)

//go:linkname storedIn github.com/nats-io/nats-server/v2/server.(*stream).getMsg
func storedIn(stream unsafe.Pointer, at uint64) (*server.StoredMsg, error)

// farEach is how often the others are asked although this member has a replica: it may be far behind theirs, or have
// an error that they do not have.
const farEach = time.Second

// here gives what this member's own replica has behind a place that can be read, and nothing where it has none.
func (r *reader) here(behind int64) (out page) {
	stream, err := streamIn(r.engine.GlobalAccount(), r.stream)
	if r.replica = err == nil; !r.replica {
		return out // this member keeps no replica, or not yet
	}
	for size := 0; ; {
		if out.more = len(out.entries) == readAtOnce || size >= readBytes; out.more {
			return out
		}
		e := entry{at: behind + int64(len(out.entries)) + 1}
		m, err := storedIn(stream, uint64(e.at))
		if err == nil {
			e.head, err = nats.DecodeHeadersMsg(m.Header)
		}
		if err != nil {
			return out // the end, no longer kept, or spoilt: the others say which
		}
		e.data = m.Data
		out.entries = append(out.entries, e)
		size += len(m.Data)
	}
}
