package store

// InMemory is something that is kept in memory, and the most that there may be of it: nothing of
// it grows with what waits.
type InMemory struct {
	What    string // a few words, as a metric names it
	N, Most int64
}

// Held tells what the store holds in memory.
func (s *Store) Held() []InMemory {
	s.units.mu.RLock()
	units, bytes := len(s.units.all), s.units.bytes
	s.units.mu.RUnlock()
	s.definitions.mu.Lock()
	known := len(s.definitions.all)
	s.definitions.mu.Unlock()
	return []InMemory{
		{"messages under way", int64(units), mostUnits},
		{"bytes of messages under way", int64(bytes), mostUnitBytes},
		{"writes that wait for the writer", int64(len(s.jobs)), maxBatch},
		{"definitions of tables", int64(known), keptDefinitions},
	}
}
