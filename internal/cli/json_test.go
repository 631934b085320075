package cli

import (
	"flag"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/status"
	"kestrix/internal/core/study"
	"kestrix/internal/core/trace"
	"kestrix/internal/live/control"
	"kestrix/internal/live/drive"
	"kestrix/internal/live/journal"
	"kestrix/internal/report"
)

// TestThePageOfJSONIsFresh holds docs/json.md to the keys that are written: each
// stands in its section, and nothing else does.
func TestThePageOfJSONIsFresh(t *testing.T) {
	page, err := os.ReadFile("../../docs/json.md")
	require.NoError(t, err)
	sections := map[string]string{}
	for _, s := range strings.Split(string(page), "\n## ")[1:] {
		title, rest, _ := strings.Cut(s, "\n")
		_, code, _ := strings.Cut(rest, "```\n")
		code, _, _ = strings.Cut(code, "```")
		sections[title] = code
	}
	for title, values := range map[string][]any{
		"check":               {struct{ Findings, Live, Unread int }{}, report.Finding{}, report.Edit{}, report.Unread{}, report.SeenJSON{}},
		"why":                 {study.Answer{}, study.Passed{}, study.RouteStep{}, study.Considered{}, study.Pick{}},
		"why -matches":        {study.Matches{}, study.LessThan{}},
		"install-files":       {struct{ Files int }{}, installedFile{}},
		"version":             {build{}, module{}},
		"version -compatible": {report.Compatibility{}, report.Incompatible{}},
		"diff":                {study.Diff{}, study.Change{}, study.RequestMove{}, study.ClientMove{}, study.TraceMoves{}, study.TraceMove{}},
		"map":                 {study.Map{}, study.MapFrontend{}, study.MapRoute{}, study.MapUpstream{}, study.MapBackend{}},
		"replay": {
			result.Replay{}, result.Latency{}, result.Upstream{}, result.Imbalance{}, result.Backend{}, result.Sessions{}, result.HealthChange{},
			result.Fault{}, result.Aftermath{}, result.Path{}, result.Page{}, result.Dependency{}, result.Spill{}, result.Phase{}, result.Timeline{}, result.TimelineRow{}, result.TimelineBox{}, scenario.Verdict{}, result.Trace{},
			trace.Bad{}, result.Overload{}, result.Seeds{}, result.SeedFigure{}, result.Diagnosis{}, result.Diagnosed{}, result.Harm{}, result.Model{}, result.BackendModel{}, result.Assumption{}, result.Durations{}, trace.Unnamed{}, result.Engine{},
		},
		"compare": {study.Comparison{}, study.Run{}, study.Figures{}, study.Apart{}, study.LeftOut{}, study.Advice{}, result.Leave{}},
		"sweep": {
			study.Sweep{}, study.SweptRun{}, study.SweepPart{}, study.SweepCase{}, study.SinglePoint{}, study.LoadLimit{}, study.Undisturbed{}, study.Shard{},
		},
		"hunt": {
			study.Hunt{}, study.HuntRun{}, study.Weakness{}, study.Failure{}, study.HuntFault{}, study.ShrinkStep{}, study.HuntTried{}, study.HuntRound{}, study.HuntShot{},
		},
		"trace describe":  {trace.Summary{}, trace.Spread{}, trace.Rate{}, trace.RateRow{}, trace.Count{}, trace.Bad{}},
		"rehearse":        {rehearsalJSON{}, study.Fidelity{}, study.Held{}, report.MappedAddress{}, drive.Lateness{}},
		"trace learn":     {study.Learned{}, study.LearnedService{}, study.LearnedPathFit{}, study.LearnedFit{}, study.LearnedRun{}, study.LearnedTimes{}, study.LearnedLoad{}, study.LearnedPath{}},
		"why -journal":    {struct{ Request, Whole, Story int }{}, journal.Moment{}, journal.Stood{}},
		"events":          {control.Events{}, status.Event{}},
		"Kept requests":   {status.Requests{}, status.Request{}, status.RequestAttempt{}},
		"A running proxy": {status.Status{}, status.Frontend{}, status.Route{}, status.Listener{}, status.Refused{}, status.Upstream{}, status.Group{}, status.Backend{}, status.ProbeSeen{}, status.Recent{}, status.Held{}, status.Elapsed{}, status.RefusedConnections{}, status.Reloads{}, status.Certificate{}, status.Probes{}},
	} {
		want := map[string]bool{}
		for _, v := range values {
			for f := range reflect.TypeOf(v).Fields() {
				name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
				if name == "-" || !f.IsExported() || f.Anonymous && name == "" {
					continue
				}
				if name == "" {
					name = strings.ToLower(f.Name)
				}
				want[name] = true
			}
		}
		if title == "replay" {
			for _, x := range new(cause.Counts).List() {
				want[x.Cause.String()] = true
			}
		}
		got := map[string]bool{}
		for _, word := range regexp.MustCompile(`[a-z][a-z0-9_]*`).FindAllString(sections[title], -1) {
			got[word] = true
		}
		assert.Equal(t, want, got, title)
	}
}

// TestThePageOfJSONListsItsCommands holds the table of docs/json.md to the commands that have -format json.
func TestThePageOfJSONListsItsCommands(t *testing.T) {
	page, err := os.ReadFile("../../docs/json.md")
	require.NoError(t, err)
	var listed, have []string
	for _, m := range regexp.MustCompile("(?m)^\\| `([a-z -]+)` \\| \\[").FindAllStringSubmatch(string(page), -1) {
		listed = append(listed, m[1])
	}
	for _, c := range flat() {
		if slices.ContainsFunc(flagsOf(c), func(f *flag.Flag) bool { return f.Name == "format" }) {
			have = append(have, c.name)
		}
	}
	assert.ElementsMatch(t, have, listed)
}
