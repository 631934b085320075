package rng

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDrawsDependOnEachPartOfTheirKey(t *testing.T) {
	base := Bits(1, 2, 3, Pick)
	assert.Equal(t, base, Bits(1, 2, 3, Pick))
	for _, other := range []uint64{Bits(2, 2, 3, Pick), Bits(1, 3, 3, Pick), Bits(1, 2, 4, Pick), Bits(1, 2, 3, Service)} {
		assert.NotEqual(t, base, other)
	}
	seen := map[uint64]bool{}
	for i := range uint64(200_000) {
		seen[Bits(7, i, i%3, Arrival)] = true
	}
	assert.Len(t, seen, 200_000, "no two keys collide")
}

// TestDistributions holds the first two moments to within five standard errors.
func TestDistributions(t *testing.T) {
	const n = 200_000
	s := NewShaper()
	ln := NewLogNormal(40, 0.6)
	for _, c := range []struct {
		name     string
		draw     func(b uint64) float64
		mean, sd float64
	}{
		{"unit", Unit, 0.5, math.Sqrt(1.0 / 12)},
		{"below 10", func(b uint64) float64 { return float64(Below(b, 10)) }, 4.5, math.Sqrt(99.0 / 12)},
		{"exponential", Exponential, 1, 1},
		{"normal", s.Normal, 0, 1},
		{"lognormal", func(b uint64) float64 { return ln.Draw(s, b) }, 40, 24},
	} {
		sum, squares := 0.0, 0.0
		for i := range uint64(n) {
			x := c.draw(Bits(5, i, 0, Service))
			sum += x
			squares += x * x
		}
		mean := sum / n
		assert.InDelta(t, c.mean, mean, 5*c.sd/math.Sqrt(n), c.name)
		assert.InDelta(t, c.sd, math.Sqrt(squares/n-mean*mean), c.sd*0.02, c.name)
	}
	assert.Equal(t, s.Normal(99), NewShaper().Normal(99), "a draw depends on its bits alone")
}

func TestTheQuickExponentialIsRight(t *testing.T) {
	for x := -20.0; x < 20; x += 0.00037 {
		if got, want := Exp(x), math.Exp(x); math.Abs(got-want) > 1e-11*want {
			t.Fatalf("Exp(%g) is %g, want %g", x, got, want)
		}
	}
	for _, x := range []float64{0, -1000, 1000, math.Inf(1), math.Inf(-1), -699, 699} {
		assert.False(t, math.Abs(Exp(x)-math.Exp(x)) > 1e-11*math.Exp(x), "%g", x)
	}
	assert.True(t, math.IsNaN(Exp(math.NaN())))
}

func TestRowsAreWhatIsDrawnOneAtATime(t *testing.T) {
	row, out := make([]uint64, 100), make([]float64, 100)
	s, ln := NewShaper(), NewLogNormal(40, 0.6)
	for _, attempt := range []uint64{0, 1, 7} {
		Row(row, 5, 1000, attempt, Service)
		ln.DrawRow(s, out, row)
		for i := range row {
			bits := Bits(5, 1000+uint64(i), attempt, Service)
			assert.Equal(t, bits, row[i])
			assert.Equal(t, ln.Draw(s, bits), out[i])
		}
	}
}
