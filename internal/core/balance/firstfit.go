package balance

// firstFit fills backends in the order of the configuration, each up to its
// max_in_flight, which the upstream tells by what is to be skipped (Johnson:
// Near-Optimal Bin Packing Algorithms, MIT 1973). Weights do not apply, but that
// one of weight 0 gets nothing. It looks at backends in turn, so that a choice
// costs O(n) when nearly all are full.
type firstFit struct {
	slots
	order []int32
}

func newFirstFit(o Options) Picker { return &firstFit{slots: slots{seed: o.Seed}} }

// Order takes the order of the configuration.
func (f *firstFit) Order(slots []int32) { f.order = append(f.order[:0], slots...) }

func (f *firstFit) Pick(q *Query) int {
	for _, s := range f.order {
		if int(s) < len(f.weight) && f.weight[s] > 0 && !q.Skip.Has(int(s)) {
			return int(s)
		}
	}
	if len(f.order) > 0 {
		return -1
	}
	for s, w := range f.weight {
		if w > 0 && !q.Skip.Has(s) {
			return s
		}
	}
	return -1
}
