package region

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
)

// atom is a set of values of a dimension that its conditions do not tell apart, and one of
// them.
type atom struct {
	holds  []bool // by condition that was asked for
	text   string
	others []string // a few more of them, as plausible
	odd    oddity
	absent bool // the field is absent, the connection names nobody, or the client has no address
	// undecided: of some condition it is not known whether it holds, and no value is known.
	undecided bool
}

// mostStates bounds the states of the automata of one dimension together, besides some for each
// instruction of their programs: texts without wildcards have no more states than those.
const mostStates = 20_000

// mostUndecided bounds the conditions of a dimension that may hold or not: each doubles what is
// told apart.
const mostUndecided = 6

// most returns the bound for some patterns.
func most(patterns []*pattern) int {
	n := mostStates
	for _, p := range patterns {
		n += 4 * len(p.insts)
	}
	return n
}

// atoms tells apart the values of a dimension by some of its conditions. Of conditions whose
// automata have too many states, undecided are told: they may hold or not.
func (d *dimension) atoms(conds []int, likes []string) (out []atom, undecided []int) {
	switch d.kind {
	case methodKind:
		return d.methodAtoms(conds), nil
	case clientKind:
		return d.clientAtoms(conds), nil
	}
	return d.textAtoms(conds, likes)
}

// textAtoms does so for texts.
func (d *dimension) textAtoms(conds []int, likes []string) ([]atom, []int) {
	var out gathered
	var undecided []int
	alphabet := map[kind]*alphabet{hostKind: hosts, pathKind: paths, sniKind: names, headerKind: headerValues, queryKind: queryValues, cookieKind: cookieValues}[d.kind]
	decided := slices.Clone(conds)
	var found []outcome
	var used []int
	for {
		used = d.used(decided)
		var patterns []*pattern
		for _, k := range used {
			patterns = append(patterns, d.patterns[k])
		}
		var ok bool
		r := newRunner(alphabet, patterns)
		if found, ok = r.outcomes(most(patterns)); ok {
			for _, like := range likes {
				r.prefer(found, like)
			}
			break
		}
		bad := d.tooLarge(decided, alphabet)
		undecided = append(undecided, bad...)
		decided = slices.DeleteFunc(decided, func(c int) bool { return slices.Contains(bad, c) })
	}
	if len(undecided) > mostUndecided {
		return nil, undecided
	}
	hit := make([]bool, len(d.patterns))
	add := func(fits []bool, x atom) {
		clear(hit)
		for k, p := range used {
			hit[p] = fits != nil && fits[k]
		}
		for _, c := range conds {
			x.holds = append(x.holds, !slices.Contains(undecided, c) && d.conds[c].holds(hit))
		}
		out.add(x)
	}
	for _, o := range found {
		if d.kind == sniKind && (o.text == "" || !d.tls) {
			continue
		}
		add(o.fits, atom{text: o.text, others: o.others, odd: o.odd})
	}
	switch d.kind {
	case sniKind:
		var patterns []*pattern
		for _, k := range used {
			patterns = append(patterns, d.patterns[k])
		}
		add(newRunner(names, patterns).fits(""), atom{absent: true})
	case headerKind, queryKind, cookieKind:
		add(nil, atom{absent: true})
	}
	return d.either(out.all, conds, undecided), undecided
}

// used returns the patterns of conditions.
func (d *dimension) used(conds []int) []int {
	var out []int
	for _, c := range conds {
		for _, s := range d.conds[c].sets {
			out = append(append(out, s.fits...), s.not...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// tooLarge returns the conditions on which it lies that there are too many states: those that
// have too many by themselves, or the one with the longest programs.
func (d *dimension) tooLarge(conds []int, a *alphabet) []int {
	var bad []int
	size := func(c int) int {
		n := 0
		for _, k := range d.used([]int{c}) {
			n += len(d.patterns[k].insts)
		}
		return n
	}
	for _, c := range conds {
		var patterns []*pattern
		regexps := false
		for _, k := range d.used([]int{c}) {
			patterns = append(patterns, d.patterns[k])
			regexps = regexps || d.patterns[k].regexp
		}
		if !regexps {
			continue
		}
		if _, ok := newRunner(a, patterns).outcomes(mostStates / 4); !ok {
			bad = append(bad, c)
		}
	}
	if bad == nil {
		bad = []int{slices.MaxFunc(conds, func(a, b int) int { return cmp.Compare(size(a), size(b)) })}
	}
	return bad
}

// either doubles atoms for each condition that is not decided: it may hold or not.
func (d *dimension) either(all []atom, conds, undecided []int) []atom {
	for _, u := range undecided {
		at := slices.Index(conds, u)
		for _, x := range all {
			x.holds = slices.Clone(x.holds)
			x.holds[at], x.undecided = true, true
			all = append(all, x)
		}
		for i := range all {
			all[i].undecided = true
		}
	}
	return all
}

// gathered are atoms, of which those are one that the same conditions hold for: the most plausible
// stands for them.
type gathered struct {
	all []atom
	at  map[string]int
}

// add adds an atom, or puts it into the one of which the same holds.
func (g *gathered) add(x atom) {
	key := x.key()
	k, ok := g.at[key]
	switch {
	case !ok:
		if g.at == nil {
			g.at = map[string]int{}
		}
		g.at[key] = len(g.all)
		g.all = append(g.all, x)
	case x.cost() < g.all[k].cost():
		x.others = append(x.others, g.all[k].values()...)
		g.all[k] = x
	default:
		g.all[k].others = append(g.all[k].others, x.values()...)
	}
	if all := &g.all[g.at[key]].others; len(*all) >= mostExamples {
		*all = (*all)[:mostExamples-1]
	}
}

// values returns the values of an atom that are kept.
func (a *atom) values() []string {
	if a.absent {
		return a.others
	}
	return append([]string{a.text}, a.others...)
}

// key tells atoms apart.
func (a *atom) key() string {
	key := bitKey(a.holds)
	if a.odd.apart() {
		key += "apart"
	}
	return key
}

// cost orders values by how plausible they are.
func (a *atom) cost() int {
	n := int(a.odd)*1000 + len(a.text)
	if a.absent {
		return 0 // nothing need be said of it
	}
	if a.undecided {
		n += 1_000_000
	}
	return n
}

// prefer has a plausible text stand for the outcome that it is of.
func (r *runner) prefer(found []outcome, text string) {
	seen := r.alphabet.start
	for _, c := range text {
		var ok bool
		if seen, ok = r.alphabet.step(seen, c); !ok {
			return
		}
	}
	odd, ok := r.alphabet.ends(seen)
	if !ok {
		return
	}
	fits := r.fits(text)
	for i := range found {
		if slices.Equal(found[i].fits, fits) && found[i].odd.apart() == odd.apart() && !found[i].preferred && odd <= found[i].odd {
			found[i].text, found[i].odd, found[i].preferred = text, odd, true
			return
		}
	}
}

// fits returns which patterns a text fits.
func (r *runner) fits(text string) []bool {
	var at []uint32
	for k, p := range r.patterns {
		at = append(at, r.offsets[k]+p.start)
	}
	last := rune(-1)
	for _, c := range text {
		var next []uint32
		for _, pc := range r.closure(at, last, c, nil) {
			if i := r.insts[pc]; i.takes(c) {
				next = append(next, r.offsets[r.of[pc]]+i.Out)
			}
		}
		at, last = next, c
	}
	fits := make([]bool, len(r.patterns))
	r.closure(at, last, -1, fits)
	return fits
}

// methodAtoms tells methods apart: those that are named, GET, OPTIONS and all others. What is never
// routed (request.Valid) is none.
func (d *dimension) methodAtoms(conds []int) []atom {
	other := "PATCH"
	for _, m := range []string{"PATCH", "PURGE", "REPORT", "SEARCH"} {
		if other = m; !slices.Contains(d.methods, m) {
			break
		}
	}
	for slices.Contains(d.methods, other) {
		other += "X"
	}
	var out gathered
	named := slices.DeleteFunc(slices.Clone(d.methods), func(m string) bool { return slices.Contains([]string{"CONNECT", "TRACE", "PRI", "GET", "OPTIONS"}, m) })
	for _, m := range append(append([]string{"GET"}, named...), other, "OPTIONS") {
		hit := make([]bool, len(d.methods))
		for k, x := range d.methods {
			hit[k] = x == m
		}
		x := atom{text: m}
		if m != "GET" {
			x.odd = unlikely
		}
		if m == "OPTIONS" {
			x.odd = asterisk // apart from others, as "*" is asked for with it alone
		}
		for _, c := range conds {
			x.holds = append(x.holds, d.conds[c].holds(hit))
		}
		out.add(x)
	}
	return out.all
}

// clientAtoms tells clients apart by the networks that are named.
func (d *dimension) clientAtoms(conds []int) []atom {
	likes := []netip.Addr{netip.MustParseAddr("203.0.113.9"), netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8::9")}
	starts := []netip.Addr{netip.IPv4Unspecified(), netip.IPv6Unspecified()}
	for _, p := range d.prefixes {
		p = p.Masked()
		starts = append(starts, p.Addr())
		if next := lastOf(p).Next(); next.IsValid() {
			starts = append(starts, next)
		}
	}
	var out gathered
	add := func(a netip.Addr, odd oddity) {
		hit := make([]bool, len(d.prefixes))
		for k, p := range d.prefixes {
			hit[k] = p.Contains(a)
		}
		x := atom{text: a.String(), odd: odd, absent: !a.IsValid()}
		for _, c := range conds {
			x.holds = append(x.holds, d.conds[c].holds(hit))
		}
		out.add(x)
	}
	for _, a := range likes {
		add(a, likely)
	}
	slices.SortFunc(starts, netip.Addr.Compare)
	for _, a := range slices.Compact(starts) {
		if next := a.Next(); !slices.Contains(starts, next) && next.IsValid() {
			a = next // the first address of a network is nobody's
		}
		add(a, unlikely)
	}
	if d.unix {
		add(netip.Addr{}, unlikely)
	}
	return out.all
}

// lastOf returns the last address of a network.
func lastOf(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < 8*len(b); i++ {
		b[i/8] |= 1 << (7 - i%8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// wordsOf returns a condition as it is written, with what it asks for.
func (d *dimension) wordsOf(c int) string {
	kinds := map[kind]string{hostKind: "host", pathKind: "path", methodKind: "method", clientKind: "client", sniKind: "sni", headerKind: "header", queryKind: "query", cookieKind: "cookie"}
	return strings.TrimSpace(kinds[d.kind]+" "+d.name) + " " + d.conds[c].words
}
