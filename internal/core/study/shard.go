package study

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"github.com/cespare/xxhash/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/result"
	"kestrix/internal/core/scenario"
)

// identity tells a sweep from others: by the files it is of, what came of them and
// what is failed.
func (o *SweepOptions) identity(c *config.Config, s *scenario.Scenario, base *result.Replay, targets []target) string {
	h := xxhash.New()
	e := json.NewEncoder(h)
	for _, f := range c.Files {
		_, _ = h.Write(f.Source)
	}
	_, _ = h.Write(s.File.Source)
	_ = e.Encode(base)
	_ = e.Encode(fmt.Sprint(targets, o.Kinds, o.Seeds, o.Replay.Resample, o.For, o.TooMuch, o.Names))
	return fmt.Sprintf("%016x", h.Sum64())
}

// Merge joins the parts of a sweep. An error says why they are not one: parts of
// different runs, one that is missing, or there twice.
func Merge(names []string, parts []*Sweep) (*Sweep, error) {
	if len(parts) == 0 {
		return nil, errors.New("no part was named")
	}
	first := parts[0]
	seen := map[int]string{}
	out := *first
	out.Cases, out.Limits, out.Shard, out.Replays = []SweepCase{}, []LoadLimit{}, nil, 0
	for i, p := range parts {
		switch {
		case p.Shard == nil:
			return nil, fmt.Errorf("%s is no part but a whole sweep", names[i])
		case p.Of.Identity != first.Of.Identity:
			return nil, fmt.Errorf("%s and %s are of different runs: their files, seed or flags were not the same", names[0], names[i])
		case p.Shard.Of != first.Shard.Of:
			return nil, fmt.Errorf("%s is a part of %d and %s one of %d", names[0], first.Shard.Of, names[i], p.Shard.Of)
		case p.Shard.Number < 1 || p.Shard.Number > p.Shard.Of || slices.ContainsFunc(p.Cases, func(c SweepCase) bool { return len(c.Failed) == 0 }):
			return nil, fmt.Errorf("%s is no part as it was written; write it again", names[i])
		case p.Partial:
			return nil, fmt.Errorf("%s was stopped before its end; write it again", names[i])
		case seen[p.Shard.Number] != "":
			return nil, fmt.Errorf("part %d is there twice: %s and %s", p.Shard.Number, seen[p.Shard.Number], names[i])
		}
		seen[p.Shard.Number] = names[i]
		out.Cases = append(out.Cases, p.Cases...)
		out.Limits = append(out.Limits, p.Limits...)
		out.Replays += p.Replays
	}
	for n := range first.Shard.Of {
		if seen[n+1] == "" {
			return nil, fmt.Errorf("part %d of %d is missing", n+1, first.Shard.Of)
		}
	}
	if len(out.Cases) != out.Of.Cases {
		return nil, fmt.Errorf("the parts hold %d cases together and should hold %d", len(out.Cases), out.Of.Cases)
	}
	out.Notes = slices.Clone(first.Notes)
	out.finish()
	return &out, nil
}
