package config

import (
	"kestrix/internal/core/balance"
)

// Algorithms are the values of `algorithm`: those of balance.Algorithms, with the
// methods of hash as one.
var Algorithms = func() (names []string) {
	for _, a := range balance.Algorithms {
		if !a.Hash {
			names = append(names, a.Name)
		}
	}
	return append(names, "hash")
}()

// hashMethods are the values of `hash.method`.
var hashMethods = func() (names []string) {
	for _, a := range balance.Algorithms {
		if a.Hash {
			names = append(names, a.Name)
		}
	}
	return names
}()

// meanings returns what each algorithm does, of hash or other.
func meanings(hash bool) (out []string) {
	for _, a := range balance.Algorithms {
		if a.Hash == hash {
			out = append(out, a.Doc)
		}
	}
	return out
}

// Balance returns the algorithm of an upstream, nil if it is none.
func (u *Upstream) Balance() *balance.Algorithm {
	method := ""
	if u.Hash != nil {
		method = u.Hash.Method
	}
	return balance.Lookup(u.Algorithm, method)
}
