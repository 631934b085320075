package study

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/cespare/xxhash/v2"

	"kestrix/internal/core/config"
	"kestrix/internal/core/region"
)

// Diff is what a change of configuration does. The keys are documented and
// stable; an empty list says that nothing of the kind changes.
type Diff struct {
	Listeners []Change      `json:"listeners"`
	Requests  []RequestMove `json:"requests"`  // sets of requests that are answered differently
	Undecided []Undecided   `json:"undecided"` // of which nothing is proved
	Renamed   []Change      `json:"renamed"`   // what is only called otherwise, which changes nothing for traffic
	Backends  []Change      `json:"backends"`
	Clients   []ClientMove  `json:"clients"`
	Settings  []Change      `json:"settings"`
	Trace     *TraceMoves   `json:"trace,omitempty"` // where a trace was given
}

// Changed reports whether anything changes for traffic, or may.
func (d *Diff) Changed() bool {
	return len(d.Listeners)+len(d.Requests)+len(d.Undecided)+len(d.Backends)+len(d.Clients)+len(d.Settings) > 0
}

// Change is something that was one thing and is another; empty for what was or
// is not there.
type Change struct {
	What string `json:"what"`
	Old  string `json:"old"`
	New  string `json:"new"`
}

// RequestMove is the requests that one route took and another one takes, or nobody, and that
// are therefore answered differently.
type RequestMove struct {
	Frontend string `json:"frontend"`
	Where    string `json:"where"`     // what they have in common, in the configuration's words
	Request  string `json:"request"`   // one of them
	OldRoute string `json:"old_route"` // empty for none
	NewRoute string `json:"new_route"`
	Old      string `json:"old"` // what becomes of them
	New      string `json:"new"`

	Clients *ClientMove `json:"clients,omitempty"` // what becomes of clients that were bound to a backend
	Trace   *int64      `json:"trace,omitempty"`   // how many of the trace, where one was given
}

// Undecided is requests of which it is not proved that they are answered as before.
type Undecided struct {
	Frontend string `json:"frontend"`
	What     string `json:"what"`
	Why      string `json:"why"`
}

// Compare returns what changes for traffic from one configuration to another.
func Compare(old, now *config.Config) *Diff {
	d := &Diff{Listeners: []Change{}, Requests: []RequestMove{}, Undecided: []Undecided{}, Renamed: []Change{}, Backends: []Change{}, Clients: []ClientMove{}, Settings: []Change{}}
	renamed := renamedUpstreams(old, now)
	d.frontends(old, now, renamed)
	for _, a := range old.Upstreams {
		if name, ok := renamed[a.Name]; ok {
			d.Renamed = append(d.Renamed, Change{"upstream", a.Name, name})
			d.clients(a, now.Upstream(name))
			continue
		}
		b := now.Upstream(a.Name)
		if b == nil {
			d.Settings = append(d.Settings, Change{"upstream " + a.Name, backends(len(a.Backends)), ""})
			continue
		}
		d.upstream(a, b)
	}
	for _, b := range now.Upstreams {
		if old.Upstream(b.Name) == nil && !isValue(renamed, b.Name) {
			d.Settings = append(d.Settings, Change{"upstream " + b.Name, "", backends(len(b.Backends))})
		}
	}
	d.settings("", old.Settings, now.Settings)
	return d
}

// leads words where a route leads; -1 stands for no route, region.Refused for what is refused. Upstreams that were
// renamed have their new names.
func leads(f *config.Frontend, i int, renamed map[string]string) string {
	switch i {
	case -1:
		return "no route: 404"
	case region.Refused:
		return "refused: 400, servers read its path in several ways, which lead to several routes"
	}
	r := f.Routes[i]
	words := r.Answer()
	switch {
	case r.Reply != nil:
		words += fmt.Sprintf(" %s (%s)", bodyWords(r.Reply.Body), r.Reply.ContentType)
	case words == "":
		words = "upstream " + cmp.Or(renamed[r.SendTo.Value], r.SendTo.Value)
	}
	if r.StreamRequests {
		words += ", stream_requests"
	}
	for _, x := range r.Settings {
		if x.Block != "" && x.Block != "when" && x.Block != "redirect" && x.Block != "reply" && len(x.Keys) > 0 {
			words += fmt.Sprintf(", %s (%s)", x.Block, settingWords(x))
		}
	}
	return words
}

// bodyWords names a fixed body; two long ones that differ anywhere are named
// differently.
func bodyWords(body string) string {
	const most = 40
	if len(body) <= most {
		return strconv.Quote(body)
	}
	return fmt.Sprintf("%q and on, %d bytes, digest %016x", strings.ToValidUTF8(body[:most], ""), len(body), xxhash.Sum64String(body))
}

func (d *Diff) upstream(a, b *config.Upstream) {
	was, is := map[string]config.Backend{}, map[string]config.Backend{}
	for _, x := range a.Backends {
		was[x.Name] = x
	}
	for _, x := range b.Backends {
		is[x.Name] = x
	}
	for _, x := range a.Backends {
		y, ok := is[x.Name]
		if !ok {
			d.Backends = append(d.Backends, Change{b.Name + "." + x.Name, x.Address.String(), ""})
			continue
		}
		for _, of := range []func(config.Backend) string{
			func(b config.Backend) string { return b.Address.String() },
			func(b config.Backend) string { return fmt.Sprintf("weight %d", b.Weight) },
			func(b config.Backend) string { return limitWords(b.MaxInFlight) },
			func(b config.Backend) string { return fmt.Sprintf("tier %d", b.Tier) },
			func(b config.Backend) string { return "zone " + cmp.Or(b.Zone, "none") },
		} {
			if was, is := of(x), of(y); was != is {
				d.Backends = append(d.Backends, Change{b.Name + "." + x.Name, was, is})
			}
		}
	}
	for _, y := range b.Backends {
		if _, ok := was[y.Name]; !ok {
			d.Backends = append(d.Backends, Change{b.Name + "." + y.Name, "", y.Address.String()})
		}
	}
	if a.Algorithm == "first-fit" && b.Algorithm == "first-fit" {
		stay := func(all []config.Backend, others map[string]config.Backend) (out []string) {
			for _, x := range all {
				if _, ok := others[x.Name]; ok {
					out = append(out, x.Name)
				}
			}
			return out
		}
		if was, is := stay(a.Backends, is), stay(b.Backends, was); !slices.Equal(was, is) {
			d.Backends = append(d.Backends, Change{b.Name, "in the order " + strings.Join(was, ", "), strings.Join(is, ", ")})
		}
	}
	d.clients(a, b)
	d.settings(b.Name, a.Settings, b.Settings)
}

func limitWords(n int) string {
	if n == 0 {
		return "no max_in_flight"
	}
	return fmt.Sprintf("max_in_flight %d", n)
}

// settings compares what two things are set to, key by key, or block by block
// where one is there on one side only.
func (d *Diff) settings(name string, a, b []config.Settings) {
	was, is := map[string]config.Settings{}, map[string]config.Settings{}
	var blocks []string
	for _, x := range a {
		was[x.Block] = x
		blocks = append(blocks, x.Block)
	}
	for _, y := range b {
		is[y.Block] = y
		if _, ok := was[y.Block]; !ok {
			blocks = append(blocks, y.Block)
		}
	}
	for _, block := range blocks {
		x, before := was[block]
		y, after := is[block]
		where := strings.Trim(name+"."+block, ".")
		switch {
		case !after:
			d.Settings = append(d.Settings, Change{where, settingWords(x), ""})
		case !before:
			d.Settings = append(d.Settings, Change{where, "", settingWords(y)})
		default:
			d.keys(where, x.Keys, y.Keys)
		}
	}
}

// keys compares two lists of keys; one that is missing has no value.
func (d *Diff) keys(where string, a, b []config.Setting) {
	find := func(list []config.Setting, key string) string {
		for _, s := range list {
			if s.Key == key {
				return s.Value
			}
		}
		return "none"
	}
	for _, x := range a {
		if y := find(b, x.Key); x.Value != y {
			d.Settings = append(d.Settings, Change{strings.TrimPrefix(where+"."+x.Key, "."), x.Value, y})
		}
	}
	for _, y := range b {
		if find(a, y.Key) == "none" && y.Value != "none" {
			d.Settings = append(d.Settings, Change{strings.TrimPrefix(where+"."+y.Key, "."), "none", y.Value})
		}
	}
}

func settingWords(s config.Settings) string {
	var out []string
	for _, k := range s.Keys {
		out = append(out, k.Key+" "+k.Value)
	}
	if len(out) == 0 {
		return "on"
	}
	return strings.Join(out, ", ")
}
