// Package draw gives random numbers that depend on nothing but their key:
// (seed, request, attempt, purpose). Two replays with one seed therefore meet
// the same work whatever order things happen in, and compared algorithms are
// compared on equal terms.
package draw

import (
	"math"
	"math/bits"
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
)

// Bits gives 64 random bits for the key. The mixing is the finaliser of
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

// Normal turns random bits into a draw from the standard normal distribution,
// by the transform of Box and Muller (1958); the two numbers it needs are the
// two halves of the bits, mixed anew.
func Normal(b uint64) float64 {
	u := 1 - Unit(b) // in (0, 1], so that the logarithm is finite
	v := Unit(mix(b ^ 0x94d049bb133111eb))
	return math.Sqrt(-2*math.Log(u)) * math.Cos(2*math.Pi*v)
}
