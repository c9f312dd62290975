package main

import "time"

// measures are the rows of the table.
func (r *rig) measures() []measure {
	var bareAt, pipeAt, keptAt string
	ready := func(at *string, make func() (string, error)) error {
		if *at != "" {
			return nil
		}
		var err error
		*at, err = make()
		return err
	}
	other := func() error {
		return ready(&bareAt, func() (string, error) { at, err := r.serve(bare()); return at + "/bare", err })
	}
	mine := r.address + "/in/bench"
	accept := func(held bool, of func(l load) float64) func(each time.Duration) (float64, float64, error) {
		return func(each time.Duration) (ours, theirs float64, err error) {
			if err := other(); err != nil {
				return 0, 0, err
			}
			r.target.held.Store(held)
			var l load
			err = r.ours(func() error { l, err = r.call(mine, each); return err })
			if err != nil {
				return 0, 0, err
			}
			ours = of(l)
			if !held {
				if err := r.settle(); err != nil {
					return 0, 0, err
				}
			}
			time.Sleep(200 * time.Millisecond)
			if l, err = r.call(bareAt, each); err != nil {
				return 0, 0, err
			}
			return ours, of(l), nil
		}
	}
	perSecond, p99 := func(l load) float64 { return l.perSecond }, func(l load) float64 { return l.p99 }
	through := func(at *string, make func() (string, error)) func(each time.Duration) (float64, float64, error) {
		return func(each time.Duration) (ours, theirs float64, err error) {
			if err := ready(at, make); err != nil {
				return 0, 0, err
			}
			err = r.ours(func() error { ours, err = r.through(mine, each); return err })
			if err == nil {
				err = r.settle()
			}
			if err != nil {
				return 0, 0, err
			}
			time.Sleep(200 * time.Millisecond)
			theirs, err = r.through(*at, each)
			return ours, theirs, err
		}
	}
	return []measure{
		{"accepted while all is delivered", "a bare handler", "≥ 0.30", accept(false, perSecond)},
		{"p99 of the same", "the bare handler's", "≤ 3", accept(false, p99)},
		{"end to end", "a pipeline that keeps nothing", "≥ 0.50", through(&pipeAt, func() (string, error) {
			at, err := r.serve(pipeline(r.client, r.target.address, nil))
			return at + "/pipeline", err
		})},
		{"end to end, kept", "a pipeline with three commits a message", "≥ 1.5", through(&keptAt, func() (string, error) {
			k, err := newKept()
			if err != nil {
				return "", err
			}
			r.others = append(r.others, k.close)
			at, err := r.serve(pipeline(r.client, r.target.address, k))
			return at + "/pipeline", err
		})},
		{"accepted while the target is held", "a bare handler", "≥ 0.40", accept(true, perSecond)},
	}
}
