package report

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestFrequentTransitionsAreSummed for each backend, while those that a fault explains stay and are not counted.
func TestFrequentTransitionsAreSummed(t *testing.T) {
	out := func(at float64) []event {
		return []event{{at: at, who: "auk", what: "down", text: "2 probes failed", left: true}, {at: at + 1, who: "auk", what: "up", text: "3 probes passed"}}
	}
	failing := func(at float64) []event {
		return []event{{at: at, who: "auk", what: "failing", text: "1 probe failed"}}
	}
	explained := event{at: 5, who: "auk", what: "down", text: "2 probes failed; 2 s after the fault", kept: true, left: true}
	join := func(parts ...[]event) (all []event) {
		for _, p := range parts {
			all = append(all, p...)
		}
		return all
	}
	for name, c := range map[string]struct {
		all  []event
		want []string
	}{
		"few stay":           {join(out(1), out(3), out(5)), []string{"2 probes failed", "3 probes passed", "2 probes failed", "3 probes passed", "2 probes failed", "3 probes passed"}},
		"many exits":         {join(out(1), out(3), out(5), out(7)), []string{"left rotation 4 times between 00:01.0 and 00:08.0; the first: 2 probes failed"}},
		"many failures":      {join(failing(1), failing(2), failing(3), failing(4)), []string{"failing 4 times without leaving rotation between 00:01.0 and 00:04.0; the first: 1 probe failed"}},
		"one exit among":     {join(failing(1), failing(2), failing(3), failing(4), out(6)), []string{"left rotation 1 time between 00:06.0 and 00:07.0; the first: 2 probes failed"}},
		"beside a fault's":   {join(failing(1), failing(2), failing(3), failing(4), []event{explained}), []string{"failing 4 times without leaving rotation between 00:01.0 and 00:04.0; the first: 1 probe failed", explained.text}},
		"faults are no sums": {[]event{{at: 1, who: "fault", text: "auk is killed"}}, []string{"auk is killed"}},
	} {
		var got []string
		for _, e := range summed(c.all) {
			got = append(got, e.text)
		}
		assert.Equal(t, c.want, got, name)
	}
}
