package check

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/ingest"
	"kestrix/internal/core/route"
	"kestrix/internal/core/trace"
	"kestrix/internal/core/units"
)

// traceRules are what `check -trace` finds by looking at recorded requests. They have no examples:
// what is found lies in the trace and not in the text.
var traceRules = []*Rule{
	{ID: "KX514", Severity: config.Warning, Title: "responses slower than the answer timeout",
		Why: "in the trace answered requests took longer in total than the answer timeout; if their header came as late, clients get 504", Fix: "timeouts { answer } above the slowest page; or a separate route for slow pages"},
}

// Timed holds the durations of recorded requests against the answer timeouts of a configuration.
type Timed struct {
	frontend, host string
	config         *config.Config
	tables         map[string]*route.Table // by frontend
	only           *route.Table
	long           map[long]*overdue
	compared       int64 // requests
}

// long is where requests take too long.
type long struct {
	upstream string
	answer   time.Duration
	at       hcl.Range
}

// overdue counts the requests of a long.
type overdue struct {
	requests, over int64
	longest        time.Duration
	line           int64 // of the longest
	what           string
}

// NewTimed makes one. The frontend and the host are for records that name none.
func NewTimed(c *config.Config, frontend, host string) (*Timed, error) {
	t := &Timed{frontend: frontend, host: host, config: c, tables: map[string]*route.Table{}, long: map[long]*overdue{}}
	for _, f := range c.Frontends {
		t.tables[f.Name] = route.Compile(f)
		t.only = t.tables[f.Name]
	}
	if frontend != "" {
		if t.only = t.tables[frontend]; t.only == nil {
			return nil, fmt.Errorf("-frontend: no frontend is called %q", frontend)
		}
	} else if len(t.tables) != 1 {
		t.only = nil
	}
	return t, nil
}

// Add takes one record. Those that no route takes, that say no duration, or that were not answered by
// a backend say nothing.
func (t *Timed) Add(rec *trace.Record) error {
	table := t.only
	if rec.Frontend != nil {
		table = t.tables[string(rec.Frontend)]
	}
	if table == nil {
		if rec.Frontend == nil {
			return fmt.Errorf("there are several frontends and this record names none; say which with -frontend")
		}
		return fmt.Errorf("the record names the frontend %q, which the configuration does not have", rec.Frontend)
	}
	if rec.Duration < 0 || rec.Status < 100 || rec.Status >= 500 {
		return nil
	}
	var q route.Request
	ingest.Request(rec, table.Asks, t.host, &q)
	i, _ := table.Match(&q)
	if i < 0 {
		return nil
	}
	r := table.Frontend.Routes[i]
	u := t.config.Upstream(r.SendTo.Value)
	if u == nil {
		return nil
	}
	k := long{u.Name, r.Waits(u).Answer, u.Timeouts.Range}
	if k.answer != u.Timeouts.Answer {
		k.at = r.Range
	}
	o := t.long[k]
	if o == nil {
		o = &overdue{}
		t.long[k] = o
	}
	o.requests++
	t.compared++
	if took := time.Duration(rec.Duration); took > k.answer {
		o.over++
		if took > o.longest {
			o.longest, o.line, o.what = took, rec.Line, fmt.Sprintf("%s %s", cmp.Or(string(rec.Method), "?"), cmp.Or(string(rec.Path), "?"))
		}
	}
	return nil
}

// Compared returns how many requests were compared with an answer timeout.
func (t *Timed) Compared() int64 { return t.compared }

// Findings returns what was found, of a trace with this name.
func (t *Timed) Findings(name string) config.Findings {
	var out config.Findings
	for k, o := range t.long {
		if o.over > 0 {
			f := LiveFinding("KX514", k.at, fmt.Sprintf("%d of %d answered requests to %q took longer than %s", o.over, o.requests, k.upstream, units.Duration(k.answer)),
				fmt.Sprintf("%s:%d: %s took %s", name, o.line, o.what, units.Duration(o.longest.Round(time.Millisecond))))
			out = append(out, f)
		}
	}
	slices.SortFunc(out, func(a, b config.Finding) int { return cmp.Compare(a.Message, b.Message) })
	return out
}
