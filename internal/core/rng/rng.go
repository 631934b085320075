// Package rng returns random numbers that depend on nothing but their key: (seed,
// request, attempt, purpose). Two replays with one seed therefore meet the same work in
// whatever order events happen, and compared algorithms are compared on equal terms.
//
// Everything random in the core uses it. It must never keep a state.
package rng

import (
	"math"
	"math/bits"
	"math/rand/v2"
)

// Purpose says what a number is drawn for, so that two draws for one request
// are independent of each other.
type Purpose uint64

// The purposes in use. A number is never used for two things.
const (
	Pick     Purpose = iota + 1 // which backend
	Service                     // how long the backend works
	Fault                       // whether a fault at a rate strikes
	Ordering                    // the seeded order among equals
	Arrival                     // when the next request comes
	Who                         // which client sends it
	What                        // which path is asked
	Size                        // how large the answer is
	Phase                       // when a probe fires first
	Spill                       // which tier or zone
	Rank                        // how a key ranks a backend
	Lasts                       // how long a stream goes on
	Stamp                       // where in its second a stamp lies
	Copies                      // how often a request comes where a load is multiplied, and when
	Patience                    // how long its client waits
	Drawn                       // how often a client of a trace is drawn, and when its copies come
	Signs                       // of differences, in a permutation test
	Think                       // how long a client of a closed load thinks
	Depends                     // how long a call of a dependency takes, and whether it fails
	After                       // when a client repeats a request
	Hunt                        // which failure a hunt tries next
)

// Bits returns 64 random bits for the key. The mixing is the finaliser of
// SplitMix64 (Steele, Lea, Flood: Fast Splittable Pseudorandom Number
// Generators, OOPSLA 2014), applied to each part of the key in turn.
func Bits(seed, request, attempt uint64, purpose Purpose) uint64 {
	h := mix(seed + 0x9e3779b97f4a7c15*uint64(purpose))
	h = mix(h ^ (request+1)*0xd1342543de82ef95)
	if attempt != 0 {
		h = mix(h ^ attempt*0xaf251af3b0f025b5)
	}
	return h
}

// Row fills out with what Bits returns for consecutive requests, from one on. Made
// in a row they cost a third of as many made one at a time, which wait for each
// other's multiplications.
func Row(out []uint64, seed, request, attempt uint64, purpose Purpose) {
	first := mix(seed + 0x9e3779b97f4a7c15*uint64(purpose))
	for i := range out {
		h := mix(first ^ (request+uint64(i)+1)*0xd1342543de82ef95)
		if attempt != 0 {
			h = mix(h ^ attempt*0xaf251af3b0f025b5)
		}
		out[i] = h
	}
}

func mix(z uint64) uint64 {
	z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9
	z = (z ^ (z >> 27)) * 0x94d049bb133111eb
	return z ^ (z >> 31)
}

// Unit turns random bits into a number in [0, 1).
func Unit(b uint64) float64 { return float64(b>>11) * 0x1p-53 }

// Below turns random bits into a whole number in [0, n). n must be positive.
func Below(b uint64, n int) int {
	hi, _ := bits.Mul64(b, uint64(n))
	return int(hi)
}

// Exponential turns random bits into a draw from the exponential distribution
// of mean 1, by inversion.
func Exponential(b uint64) float64 { return -math.Log1p(-Unit(b)) }

// Shaper turns random bits into draws from distributions that want more than
// one number, by the ziggurat method (Marsaglia and Tsang, 2000) of the standard
// library. It is not safe for concurrent use.
type Shaper struct {
	state uint64
	rand  *rand.Rand
}

// NewShaper returns a shaper; all of them give the same draws.
func NewShaper() *Shaper {
	s := &Shaper{}
	s.rand = rand.New(s)
	return s
}

// Uint64 is the stream that the ziggurat draws from: SplitMix64.
func (s *Shaper) Uint64() uint64 {
	s.state += 0x9e3779b97f4a7c15
	return mix(s.state)
}

// Normal turns random bits into a draw from the standard normal distribution.
func (s *Shaper) Normal(b uint64) float64 {
	s.state = b
	return s.rand.NormFloat64()
}

// LogNormal is a lognormal distribution with its constants worked out.
type LogNormal struct{ mean, sigma, shift float64 }

// NewLogNormal returns the distribution of that mean and coefficient of variation
// (standard deviation over mean).
func NewLogNormal(mean, cv float64) LogNormal {
	s2 := math.Log1p(cv * cv)
	return LogNormal{mean, math.Sqrt(s2), -s2 / 2}
}

// Draw turns random bits into a draw from it.
func (l LogNormal) Draw(s *Shaper, b uint64) float64 {
	return l.mean * Exp(l.sigma*s.Normal(b)+l.shift)
}

// DrawRow is Draw for each of a row of random bits.
func (l LogNormal) DrawRow(s *Shaper, out []float64, bits []uint64) {
	for i, b := range bits {
		out[i] = s.Normal(b)
	}
	for i, x := range out {
		out[i] = l.mean * Exp(l.sigma*x+l.shift)
	}
}
