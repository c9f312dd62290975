package fleet

import (
	"time"
	_ "unsafe" // for go:linkname

	_ "github.com/nats-io/nats-server/v2/server"
)

// The engine of the log waits four to nine seconds until its replicas choose another that decides, and
// has no setting for it: that is meant for clusters over long ways. Members of a fleet stand side by
// side, and people wait meanwhile; so its variables are set to what suits them. Only how soon it is
// noticed hangs on these, never what is kept: Raft holds whatever they are (Ongaro, Ousterhout: In
// Search of an Understandable Consensus Algorithm, 5.6: the time between beats is to be much shorter
// than that of an election, and that much shorter than the time between failures).

//go:linkname minElectionTimeout github.com/nats-io/nats-server/v2/server.minElectionTimeout
var minElectionTimeout time.Duration

//go:linkname maxElectionTimeout github.com/nats-io/nats-server/v2/server.maxElectionTimeout
var maxElectionTimeout time.Duration

//go:linkname hbInterval github.com/nats-io/nats-server/v2/server.hbInterval
var hbInterval time.Duration

func init() {
	minElectionTimeout, maxElectionTimeout, hbInterval = 1500*time.Millisecond, 3*time.Second,
		300*time.Millisecond
}
