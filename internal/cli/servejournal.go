package cli

import (
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"time"

	"kestrix/internal/live/journal"
	"kestrix/internal/live/proxy"
)

// journalFlushed is how often what was decided is handed on to the journal's file.
const journalFlushed = time.Second

// keepJournal has a proxy's options write a journal, until end.
func (x *serving) keepJournal(o *proxy.Options) (end func(), err error) {
	f, name, err := freshFile(x.f.journal)
	if err != nil {
		return nil, unusable(fmt.Errorf("the journal %s cannot be written: %w", x.f.journal, reason(err)))
	}
	for o.Seed == 0 { // which a journal has to know
		var b [8]byte
		_, _ = rand.Read(b[:]) // never fails, as the package promises
		o.Seed = binary.LittleEndian.Uint64(b[:])
	}
	o.Began = time.Now()
	j := journal.NewWriter(f, journal.Head{Version: Version, Seed: o.Seed, Began: o.Began}, func(err error) {
		x.events.say("journal", "%s ends here: %v", name, reason(err))
	})
	o.Journal = j.Add
	done, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		tick := time.NewTicker(journalFlushed)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				j.Flush()
			case <-done:
				return
			}
		}
	}()
	x.events.say("journal", "every decision is written to %s", name)
	return func() {
		close(done)
		<-gone
		j.Flush()
		f.Close()
	}, nil
}
