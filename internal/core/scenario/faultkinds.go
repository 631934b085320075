package scenario

import (
	"slices"
	"strings"
)

// FaultKind describes a kind of fault. The language, the replay, stand-ins, sweep and
// the reference derive from it; what a new kind needs beyond an Effect it has to bring
// there.
type FaultKind struct {
	Name string
	Doc  string   // what happens
	Keys []string // further keys of a fault that are this kind's
	// Effect is how the backend behaves while the fault lasts. It has none where an
	// operator takes part instead.
	Effect Effect
	Flaps  bool // the effect comes and goes, see Fault.FailsFor and WorksFor
	// Order is the order that an operator gives the proxy when the fault begins: park,
	// drain or weight, and takes back when it ends; empty for none.
	Order string
	Proxy bool // a proxy fails, and no backend
}

// Effect is how a backend behaves under a fault, as the network shows it.
type Effect struct {
	Refuses   bool // it does not listen: connecting fails at once, what is open breaks
	Swallows  bool // packets vanish: connecting takes until its timeout, what is open falls silent
	Hangs     bool // it accepts connections and never answers
	Resets    bool // it breaks answers half-way
	Errors    bool // it answers with Fault.Status, at Fault.Rate
	Slows     bool // it takes Fault.Factor times as long
	FailProbe bool // its probes fail
	LieProbe  bool // its probes pass, whatever else it answers
}

// Silent reports whether the backend sends nothing more.
func (e *Effect) Silent() bool { return e.Swallows || e.Hangs }

// FaultKinds are the kinds of faults, in the order in which they are listed. It is
// read only.
var FaultKinds = []FaultKind{
	{Name: "refuse", Doc: "the process ended: requests in flight break, connects are refused at once", Effect: Effect{Refuses: true}},
	{Name: "blackhole", Doc: "packets are lost: connects and responses never arrive", Effect: Effect{Swallows: true}},
	{Name: "hang", Doc: "the backend accepts connections and never answers", Effect: Effect{Hangs: true}},
	{Name: "reset", Doc: "responses break off halfway", Effect: Effect{Resets: true}},
	{Name: "errors", Doc: "the backend answers with an error status, at a rate", Keys: []string{"status", "rate", "after"}, Effect: Effect{Errors: true}},
	{Name: "slow", Doc: "the backend takes several times as long", Keys: []string{"factor"}, Effect: Effect{Slows: true}},
	{Name: "flap", Doc: "the backend alternately refuses and works", Keys: []string{"fails_for", "works_for"}, Effect: Effect{Refuses: true}, Flaps: true},
	{Name: "probe-fails", Doc: "only the probe fails", Effect: Effect{FailProbe: true}},
	{Name: "probe-lies", Doc: "the probe passes while requests get an error status", Keys: []string{"status", "rate", "after"}, Effect: Effect{Errors: true, LieProbe: true}},
	{Name: "park", Doc: "an operator parks the backend", Order: "park"},
	{Name: "drain", Doc: "an operator drains the backend: sessions stay, no new ones begin", Order: "drain"},
	{Name: "weight", Doc: "an operator changes the weight of the backend", Keys: []string{"weight"}, Order: "weight"},
	{Name: "gone", Doc: "a proxy ended: requests through it break, and its counts and tables are lost", Keys: []string{"proxy", "moves_after"}, Proxy: true},
}

// faultDocs returns what happens in each kind of fault.
func faultDocs() (out []string) {
	for _, k := range FaultKinds {
		out = append(out, k.Doc)
	}
	return out
}

// FaultKindOf returns the kind of a name, nil if there is none.
func FaultKindOf(name string) *FaultKind {
	for i := range FaultKinds {
		if FaultKinds[i].Name == name {
			return &FaultKinds[i]
		}
	}
	return nil
}

// FaultDoc returns what happens in a kind of fault, in a few words; nothing for a name
// that is none.
func FaultDoc(name string) string {
	if k := FaultKindOf(name); k != nil {
		return k.Doc
	}
	return ""
}

// DependencyFaultDoc is FaultDoc for a fault of a dependency.
func DependencyFaultDoc(name string) string {
	return strings.Replace(FaultDoc(name), "the backend", "the dependency", 1)
}

// Of returns the kind of a fault. The language allows no other than those there are;
// for any other it panics.
func (f *Fault) Of() *FaultKind {
	k := FaultKindOf(f.Kind)
	if k == nil {
		panic("no kind of fault is called " + f.Kind)
	}
	return k
}

// FaultNames returns the names of those kinds that a condition picks.
func FaultNames(pick func(*FaultKind) bool) []string {
	var names []string
	for i := range FaultKinds {
		if k := &FaultKinds[i]; pick(k) {
			names = append(names, k.Name)
		}
	}
	return names
}

// AllFaults has FaultNames pick every kind.
func AllFaults(*FaultKind) bool { return true }

// OfDependency has FaultNames pick those kinds in which a dependency can fail.
func OfDependency(k *FaultKind) bool {
	return ByBackend(k) && !k.Effect.FailProbe && !k.Effect.LieProbe
}

// listed joins words.
func listed(words []string) string { return strings.Join(words, ", ") }

// ByBackend has FaultNames pick those kinds in which the backend itself fails.
func ByBackend(k *FaultKind) bool { return k.Order == "" && !k.Proxy }

// keysOfKinds returns the keys that belong to some kinds only, in the order of the kinds.
func keysOfKinds() (keys []string) {
	for _, k := range FaultKinds {
		for _, key := range k.Keys {
			if !slices.Contains(keys, key) {
				keys = append(keys, key)
			}
		}
	}
	return keys
}
