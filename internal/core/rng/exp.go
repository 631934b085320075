package rng

import "math"

// Exp is the exponential function, right to eleven digits, four times as fast
// as the library's: a draw needs no more. It splits x into a whole number of
// sixty-fourths of ln 2, whose power of two is looked up, and a rest so small
// that five terms of the series do (the method of Tang: Table-Driven
// Implementation of the Exponential Function, ACM Transactions on Mathematical
// Software 15, 1989).
func Exp(x float64) float64 {
	if !(x > -700 && x < 700) {
		return math.Exp(x)
	}
	const (
		steps = 64
		size  = math.Ln2 / steps
		// Added and taken off again, it leaves the nearest whole number.
		nearest = 3 << 51
	)
	n := x*(1/size) + nearest - nearest
	k := int64(n)
	r := x - n*size
	p := 1 + r*(1+r*(1.0/2+r*(1.0/6+r*(1.0/24))))
	return p * powers[k&(steps-1)] * math.Float64frombits(uint64(k>>6+1023)<<52)
}

// powers are the powers of two of 0/64 to 63/64.
var powers = func() (t [64]float64) {
	for i := range t {
		t[i] = math.Exp2(float64(i) / 64)
	}
	return t
}()
