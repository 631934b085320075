package report

import (
	"encoding/xml"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/study"
)

func heldFixture() *HeldAll {
	met := scenario.Verdict{Name: "few fail", Met: true, That: "result.failed < 9", Values: map[string]any{"result.failed": 2.0}}
	never := scenario.Verdict{Name: "it is found <soon>", That: "result.faults[0].detected_after <= 5", Values: map[string]any{"result.faults[0].detected_after": nil}}
	return &HeldAll{Names: []string{"pier.hcl"}, Met: 1, NotMet: 1, Scenarios: []Held{
		{Scenario: "auk-goes.scenario.hcl", Met: 1, NotMet: 1, Result: &result.Replay{Requests: 1200, Failed: 2, ErrorRate: 2.0 / 1200, Latency: result.Latency{P99: 0.2}, Elapsed: result.Latency{P99: 0.3}, Expectations: []scenario.Verdict{met, never}}},
		{Scenario: "quiet.scenario.hcl", Result: &result.Replay{Requests: 10}},
	}}
}

func TestScenariosAreSummedUp(t *testing.T) {
	h := heldFixture()
	text := plainStyle.Held(h)
	assert.Equal(t, `pier.hcl · 2 scenarios

  scenario  requests  failed  error rate  elapsed p99  expectations
  auk-goes     1,200       2      0.17 %       300 ms  1 of 2 not met
  quiet           10       0      0.00 %            -  none

not met
  auk-goes: it is found <soon>
    result.faults[0].detected_after <= 5
    result.faults[0].detected_after is never

1 of 2 expectations met
`, text)
	narrow := Style{Width: 44, Terminal: true}.Held(h)
	assert.Contains(t, narrow, "hidden: terminal too narrow")
	for line := range splitLines(narrow) {
		assert.LessOrEqual(t, visible(line), 48, line)
	}
	h.Partial = true
	assert.Contains(t, plainStyle.Held(h), "stopped early: scenarios are missing")
}

func splitLines(s string) func(func(string) bool) {
	return func(yield func(string) bool) {
		start := 0
		for i := range s {
			if s[i] == '\n' {
				if !yield(s[start:i]) {
					return
				}
				start = i + 1
			}
		}
	}
}

func TestScenariosForCIServers(t *testing.T) {
	h := heldFixture()
	text, err := HeldJUnit(h)
	require.NoError(t, err)
	var got junitSuites
	require.NoError(t, xml.Unmarshal(text, &got))
	assert.Equal(t, []int{3, 1, 2}, []int{got.Tests, got.Failures, len(got.Suites)})
	s := got.Suites[0]
	assert.Equal(t, "auk-goes.scenario.hcl", s.Name)
	assert.Nil(t, s.Cases[0].Failure)
	assert.Equal(t, "result.failed < 9: result.failed is 2", s.Cases[0].Out)
	require.NotNil(t, s.Cases[1].Failure)
	assert.Equal(t, "it is found <soon>", s.Cases[1].Name)
	assert.Equal(t, "result.faults[0].detected_after <= 5: result.faults[0].detected_after is never", s.Cases[1].Failure.Message)
	assert.Equal(t, "nothing is expected", got.Suites[1].Cases[0].Name)
	h.Partial = true
	text, err = HeldJUnit(h)
	require.NoError(t, err)
	require.NoError(t, xml.Unmarshal(text, &got))
	assert.Equal(t, 2, got.Failures, "what was not replayed is not met")
}

// TestTablesOfVariantsFit: however narrow, the way, p99 and what failed stay.
func TestTablesOfVariantsFit(t *testing.T) {
	p := compared(t)
	for _, width := range []int{120, 110, 80, 60, 40} {
		text := Style{Width: width, Unicode: true, Terminal: true}.Compare(p)
		for line := range splitLines(text) {
			assert.LessOrEqual(t, visible(line), max(width, 46), "%d: %s", width, line)
		}
		for _, want := range []string{"round-robin", "p99", "failed"} {
			assert.Contains(t, text, want)
		}
	}
	p.Result.Runs[0].Notes = []string{`"x" matches no backend in it`}
	p.Result.Partial, p.Upstreams = true, []string{"app", "gate", "board"}
	p.Result.Runs[0].Result.Overloaded = []result.Overload{{Upstream: "app", From: 61}}
	text := plainStyle.Compare(p)
	for _, want := range []string{`round-robin: "x" matches no backend in it`, "stopped early: figures are partial", "app, gate and board", "app is over capacity, with seed 1: round-robin from 01:01.0 on", "first-fit was not compared"} {
		assert.Contains(t, text, want)
	}
	for key := range measureNames {
		assert.NotEmpty(t, figureCell(key, &study.Figures{}, &study.Run{Result: &result.Replay{}}), key)
	}
}
