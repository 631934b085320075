package tracing

import (
	"errors"
	"net/url"
)

// errSlow is why spans are lost whose queue is full.
var errSlow = errors.New("the collector takes spans more slowly than they come, and 4,096 of them wait")

// drop counts spans that are lost, and tells when that begins.
func (t *Tracer) drop(n uint64, err error) {
	before := t.lost.Add(n) - n
	t.mu.Lock()
	begins := !t.failing
	if begins {
		t.failing, t.since = true, before
	}
	t.mu.Unlock()
	if begins {
		t.tell(0, plain(err))
	}
}

// taken notes that the collector takes spans, and tells if it did not before.
func (t *Tracer) taken() {
	t.mu.Lock()
	ends := t.failing
	lost := t.lost.Load() - t.since
	t.failing = false
	t.mu.Unlock()
	if ends {
		t.tell(lost, nil)
	}
}

// plain leaves out what the library says before the reason.
func plain(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}
