package check

import (
	"time"

	"kestrix/internal/core/config"
)

// Facts are what is known of the world besides the configuration: the time, and
// the files it names. They are gathered outside and handed in.
type Facts struct {
	Now   time.Time
	Pairs map[PairName]PairFact
	Files map[string]string // other files: what is wrong with each, empty for nothing
}

// PairName names a certificate and its key as the configuration does.
type PairName struct{ Certificate, Key string }

// PairFact is what is known of a certificate and its key.
type PairFact struct {
	Unreadable  string // why one of the two cannot be read; then nothing else is known
	OfKey       bool   // it is the key that cannot be read
	Mismatch    string // why the two do not belong together
	Names       []string
	From, Until time.Time // when the certificate holds
	KeyMode     uint32    // permissions of the key's file
}

// pairs calls f for each certificate of a configuration whose facts are known.
func (p *Pass) pairs(f func(config.Pair, *config.Frontend, PairFact)) {
	if p.Facts == nil {
		return
	}
	each := func(x config.Pair, front *config.Frontend) {
		if x.Certificate.Value == "" {
			return
		}
		if fact, ok := p.Facts.Pairs[PairName{x.Certificate.Value, x.Key.Value}]; ok {
			f(x, front, fact)
		}
	}
	for _, pair := range p.Config.Pairs() {
		each(pair.Pair, pair.Frontend)
	}
}
