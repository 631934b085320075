// Package scenario reads what happens during a replay: how backends behave,
// faults with a beginning and an end, and what is expected of the result.
package scenario

import "kestrix/internal/core/config"

// Kinds are the faults there are, each with what it does.
var Kinds = map[string]string{
	"refuse":      "the process is gone: open requests break, connecting fails at once",
	"blackhole":   "packets vanish: connecting and answers never come through",
	"hang":        "it accepts and never answers",
	"reset":       "answers break off half-way",
	"errors":      "it answers with an error status, at a rate",
	"slow":        "it takes several times as long",
	"probe-fails": "only the probe fails",
	"park":        "an operator takes it out",
	"drain":       "an operator drains it: sessions stay, no new ones come",
	"weight":      "an operator changes its weight",
}

// Language is the table of the scenario language. It is read only.
var Language = &config.Block{
	Name: "scenario",
	Help: "what happens during a replay",
	Keys: []*config.Key{
		{Name: "seed", Type: config.Whole, Default: "1", Min: "0", Help: "keys every random draw", Example: "7"},
	},
	Blocks: []*config.Block{
		{
			Name: "behaviour", Label: &config.Label{Name: "pattern"}, Many: true,
			Help: "how backends behave, by UPSTREAM.BACKEND with * for any text; of several that fit, the last",
			Keys: []*config.Key{
				{Name: "service", Type: config.Dist, Help: "how long a worker takes: fixed, exponential, lognormal(mean, coefficient of variation) or from_trace(); " +
					"by default the trace's own durations where it has them, else lognormal(\"40ms\", 0.6)", Example: `lognormal("40ms", 0.6)`},
				{Name: "workers", Type: config.Whole, Default: "16", Min: "1", Max: "1000000", Help: "requests it works on at once", Example: "16"},
				{Name: "backlog", Type: config.Whole, Default: "64", Min: "0", Max: "10000000", Help: "requests that wait for a worker; a full one refuses", Example: "64"},
				{Name: "connect", Type: config.Duration, Default: `"1ms"`, Max: `"1h"`, Help: "how long connecting takes", Example: `"1ms"`},
			},
		},
		{
			Name: "fault", Label: &config.Label{Name: "title"}, Many: true,
			Help: "a scripted failure with a beginning and an end",
			Keys: []*config.Key{
				{Name: "backend", Type: config.Texts, Help: "whom it strikes, by UPSTREAM.BACKEND with * for any text", Example: `"booking.auk"`},
				{Name: "upstream", Type: config.Texts, Help: "every backend of these upstreams", Example: `"booking"`},
				{Name: "zone", Type: config.Texts, Help: "every backend that stands in these zones, of whatever upstream", Example: `"north-quay"`},
				{Name: "kind", Type: config.Text, Required: true, Allowed: kindNames(), Help: "what fails", Example: `"refuse"`},
				{Name: "at", Type: config.Duration, Required: true, Help: "when it begins, from the start of the replay", Example: `"2m"`},
				{Name: "until", Type: config.Duration, Help: "when it ends; without it, never", Example: `"5m"`},
				{Name: "status", Type: config.Whole, Default: "503", Min: "400", Max: "599", Help: "of errors: the status answered", Example: "503"},
				{Name: "rate", Type: config.Percent, Default: `"100%"`, Help: "of errors: how many answers", Example: `"50%"`},
				{Name: "factor", Type: config.Number, Default: "10", Min: "0.001", Max: "1000000", Help: "of slow: how many times as long", Example: "10"},
				{Name: "weight", Type: config.Whole, Default: "0", Min: "0", Max: "10000", Help: "of weight: the weight while it lasts", Example: "1"},
			},
		},
		{
			Name: "expect", Label: &config.Label{Name: "title"}, Many: true,
			Help: "what the result must be; if it is not, replay exits with 1",
			Keys: []*config.Key{
				{Name: "that", Type: config.Any, Required: true, Help: "a condition over the result's keys; a moment that never came counts as infinite",
					Example: "result.error_rate <= 0.002"},
			},
		},
	},
}

// kindNames lists the kinds in a fixed order.
func kindNames() []string {
	return []string{"refuse", "blackhole", "hang", "reset", "errors", "slow", "probe-fails", "park", "drain", "weight"}
}

// ownKeys says which further keys belong to which kind.
var ownKeys = map[string]string{"status": "errors", "rate": "errors", "factor": "slow", "weight": "weight"}
