package upstream

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatEndsAnOrder: Return ends all, Admit all but a weight, and a configuration with
// another weight ends that. A weight of 0 is out of rotation, and told.
func TestWhatEndsAnOrder(t *testing.T) {
	const members = "a = { address = \"127.0.0.1:1\", weight = 2 }\nb = \"127.0.0.1:2\""
	u := New(0, parseMembers(t, members, ""), 1)
	a := id(t, u, "a")
	stands := func() string { return u.Members(0)[0].ByHand }
	u.Operate(0, a, Drain, 0)
	u.Operate(0, a, Weigh, 5)
	assert.Equal(t, "draining; weight 5 where the file says 2", stands())
	u.Operate(0, a, Admit, 0)
	assert.Equal(t, "weight 5 where the file says 2", stands())
	u.Operate(0, a, Return, 0)
	assert.Empty(t, stands())

	u.Operate(0, a, Weigh, 5)
	u.Reload(second, parseMembers(t, members, "algorithm = \"random\""))
	assert.Equal(t, "weight 5 where the file says 2", stands(), "it outlives a reload")
	u.Reload(second, parseMembers(t, "a = { address = \"127.0.0.1:1\", weight = 3 }\nb = \"127.0.0.1:2\"", ""))
	assert.Empty(t, stands(), "the file has another weight now")

	u.Changes(nil)
	for _, weight := range []int{0, 0, 4, 0} {
		u.Operate(2*second, a, Weigh, weight)
		assert.Equal(t, weight > 0, u.Eligible(a))
	}
	u.Operate(3*second, a, Park, 0)
	u.Operate(3*second, a, Weigh, 3) // changes nothing of that
	var told []string
	for _, c := range u.Changes(nil) {
		require.Equal(t, c.ByWeight, c.From == c.To)
		told = append(told, c.To.String()+": "+c.Why)
	}
	assert.Equal(t, []string{"up: weight 0 by hand", "up: weight 4 by hand", "up: weight 0 by hand", "parked: parked by hand"}, told)
}
