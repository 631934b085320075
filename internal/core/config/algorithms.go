package config

import (
	"strings"

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

// describe returns a sentence for each algorithm, of hash or other.
func describe(hash bool) string {
	var out []string
	for _, a := range balance.Algorithms {
		if a.Hash == hash {
			out = append(out, a.Name+": "+a.Doc)
		}
	}
	return strings.Join(out, "; ")
}

// Balance returns the algorithm of an upstream, nil if it is none.
func (u *Upstream) Balance() *balance.Algorithm {
	method := ""
	if u.Hash != nil {
		method = u.Hash.Method
	}
	return balance.Lookup(u.Algorithm, method)
}
