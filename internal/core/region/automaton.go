// Package region says exactly which requests a route takes: those that its condition fits, less
// those that routes before it take. It compares the routes of two configurations, finds routes
// that take nothing and requests that fit two, and has an example for whatever it says. What is
// refused because its path can be read in several ways is looked at path by path: see OfPath.
//
// A decision diagram is made of all conditions, a dimension at a time; texts are told apart by
// automata over the normal forms of package request. Diff, why and the checker use it. It must
// never decide for a request: package route does, and every example is put through it.
package region

import (
	"encoding/binary"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/request"
)

// pattern is what a text must look like, as a program of Pike's for its characters
// (Thompson, Regular Expression Search Algorithm, Communications of the ACM 11, 1968).
type pattern struct {
	words   string // as the configuration has it
	text    string // as written, in normal form
	literal bool   // it is written without wildcards, and not as a regular expression
	insts   []inst
	start   uint32
	regexp  bool // it was written as one
	empty   bool // it asks for what stands around a place, as \b does
}

// inst is an instruction of a pattern's program.
type inst struct {
	syntax.Inst
	ascii [128]bool // which characters a step takes; others are asked for
}

// takes reports whether a step takes a character.
func (i *inst) takes(r rune) bool {
	if r < 128 {
		return i.ascii[r]
	}
	return i.MatchRune(r)
}

// steps reports whether the instruction takes a character.
func (i *inst) steps() bool {
	return i.Op == syntax.InstRune || i.Op == syntax.InstRune1 || i.Op == syntax.InstRuneAny || i.Op == syntax.InstRuneAnyNotNL
}

// newPattern compiles a match of the configuration; kind writes one without a regular
// expression as one. The error is that of the regular expression, which the configuration
// has found already.
func newPattern(m config.Match, kind func(string) string) (*pattern, error) {
	text := m.Text
	if m.Regexp == nil {
		text = kind(m.Text)
	}
	m.Not = false
	re, err := syntax.Parse(text, syntax.Perl)
	if err != nil {
		return nil, err
	}
	prog, err := syntax.Compile(re.Simplify())
	if err != nil {
		return nil, err
	}
	p := &pattern{words: m.String(), text: request.Escaped(m.Text), literal: m.Regexp == nil && !strings.Contains(m.Text, "*"), regexp: m.Regexp != nil, start: uint32(prog.Start)}
	for _, x := range prog.Inst {
		i := inst{Inst: x}
		if i.steps() {
			for r := range i.ascii {
				i.ascii[r] = x.MatchRune(rune(r))
			}
		}
		p.empty = p.empty || x.Op == syntax.InstEmptyWidth
		p.insts = append(p.insts, i)
	}
	return p, nil
}

// What follows writes patterns with wildcards as regular expressions; package route says
// what they mean.

// pathText writes a pattern for paths.
func pathText(text string) string {
	text = request.Escaped(text)
	if text == "**" || text == "/**" {
		return `(?s:.*)`
	}
	rest := ""
	if before, ok := strings.CutSuffix(text, "/**"); ok {
		text, rest = before, `(?:/(?s:.*))?`
	}
	return wild(text, `[^/]*`) + rest
}

// hostText writes a pattern for hosts.
func hostText(text string) string {
	text = strings.ToLower(text)
	if text == "**" {
		return `(?s:.*)`
	}
	if after, ok := strings.CutPrefix(text, "**."); ok {
		return `(?:(?s:.*)\.)?` + wild(after, `[^.]*`)
	}
	return wild(text, `[^.]*`)
}

// plainText writes a pattern for other texts.
func plainText(text string) string { return wild(text, `(?s:.*)`) }

// wild writes a text in which * stands for what star takes.
func wild(text, star string) string {
	parts := strings.Split(text, "*")
	for i, p := range parts {
		parts[i] = regexp.QuoteMeta(p)
	}
	return strings.Join(parts, star)
}

// outcome is a set of texts that fit the same of some patterns, and one of them.
type outcome struct {
	fits      []bool // by position of the pattern
	text      string
	others    []string // a few more of them
	odd       oddity
	preferred bool // the text is one of those that were preferred
}

// runner walks all texts of an alphabet through several patterns at once: the subset
// construction (Rabin and Scott, Finite Automata and Their Decision Problems, IBM Journal of
// Research and Development 3, 1959), of which a state is made when it is met.
type runner struct {
	alphabet *alphabet
	patterns []*pattern
	offsets  []uint32 // of the programs, by pattern
	insts    []*inst  // of all programs
	of       []int    // pattern by instruction
	empty    bool
	runes    []rune // that tell all states apart, the plausible first

	work  int      // instructions that closures have met
	mark  []uint32 // by instruction: the closure that it was last met in
	round uint32
	stack []uint32
}

// place is a state: where the programs stand before they look at what follows, what kind
// of character came last, and what the alphabet has seen.
type place struct {
	at   []uint32 // sorted
	last rune     // -1 at the beginning; of a kind, if that is asked for
	seen state
	from int // the place before
	by   rune
}

// newRunner returns one for patterns over an alphabet.
func newRunner(a *alphabet, patterns []*pattern) *runner {
	r := &runner{alphabet: a, patterns: patterns}
	for k, p := range patterns {
		offset := uint32(len(r.insts))
		r.offsets = append(r.offsets, offset)
		for i := range p.insts {
			r.insts, r.of = append(r.insts, &p.insts[i]), append(r.of, k)
		}
		r.empty = r.empty || p.empty
	}
	r.mark = make([]uint32, len(r.insts))
	r.runes = a.tell(patterns)
	return r
}

// closure returns the instructions that wait for a character, from places with context
// between two characters, and which patterns fit there; before and after are -1 at the ends.
func (r *runner) closure(at []uint32, before, after rune, fits []bool) []uint32 {
	r.round++
	around := syntax.EmptyOp(0)
	if r.empty {
		around = syntax.EmptyOpContext(before, after)
	}
	r.stack = append(r.stack[:0], at...)
	var out []uint32
	for len(r.stack) > 0 {
		pc := r.stack[len(r.stack)-1]
		r.stack = r.stack[:len(r.stack)-1]
		if r.mark[pc] == r.round {
			continue
		}
		r.mark[pc] = r.round
		r.work++
		i, offset := r.insts[pc], r.offsets[r.of[pc]]
		switch i.Op {
		case syntax.InstAlt, syntax.InstAltMatch:
			r.stack = append(r.stack, offset+i.Out, offset+i.Arg)
		case syntax.InstCapture, syntax.InstNop:
			r.stack = append(r.stack, offset+i.Out)
		case syntax.InstEmptyWidth:
			if syntax.EmptyOp(i.Arg)&^around == 0 {
				r.stack = append(r.stack, offset+i.Out)
			}
		case syntax.InstMatch:
			if fits != nil {
				fits[r.of[pc]] = true
			}
		case syntax.InstFail:
		default:
			out = append(out, pc)
		}
	}
	return out
}

// key tells places apart.
func (p *place) key() string {
	b := make([]byte, 0, 8+4*len(p.at))
	b = binary.AppendVarint(b, int64(p.last))
	b = binary.AppendUvarint(b, uint64(p.seen))
	for _, pc := range p.at {
		b = binary.LittleEndian.AppendUint32(b, pc)
	}
	return string(b)
}

// lastOf returns what counts of the character before: its kind, where something asks.
func (r *runner) lastOf(c rune) rune {
	switch {
	case !r.empty:
		return 0
	case c == '\n':
		return '\n'
	case syntax.IsWordChar(c):
		return 'x'
	}
	return '/'
}

// mostWork bounds the instructions that are met while automata are made: about a second's.
const mostWork = 30_000_000

// outcomes returns the sets of texts that the patterns tell apart, each with its shortest
// text, the most plausible of these. It is false if there are more than so many states, or they
// have too many instructions.
func (r *runner) outcomes(most int) ([]outcome, bool) {
	var start []uint32
	for k, p := range r.patterns {
		start = append(start, r.offsets[k]+p.start)
	}
	places := []place{{at: start, last: -1, seen: r.alphabet.start, from: -1}}
	met := map[string]bool{places[0].key(): true}
	var out []outcome
	known := map[string]int{}
	fits := make([]bool, len(r.patterns))
	for n := 0; n < len(places); n++ {
		p := places[n]
		if odd, ok := r.alphabet.ends(p.seen); ok {
			clear(fits)
			r.closure(p.at, p.last, -1, fits)
			key := bitKey(fits)
			if odd.apart() {
				key += "apart"
			}
			if k, ok := known[key]; !ok {
				known[key] = len(out)
				out = append(out, outcome{fits: slices.Clone(fits), text: text(places, n), odd: odd})
			} else if odd < out[k].odd {
				out[k].text, out[k].odd = text(places, n), odd
			} else if len(out[k].others) < mostExamples-1 && odd == out[k].odd {
				out[k].others = append(out[k].others, text(places, n))
			}
		}
		for _, next := range r.steps(&p) {
			next.from = n
			if key := next.key(); !met[key] {
				if len(places) == most || r.work > mostWork {
					return nil, false
				}
				met[key] = true
				places = append(places, next)
			}
		}
	}
	return out, true
}

// steps returns the places that follow one, each by its most plausible character.
func (r *runner) steps(p *place) []place {
	var out []place
	var waiting []uint32
	if !r.empty {
		waiting = r.closure(p.at, p.last, -1, nil)
	}
	taken := map[string][]int{} // places of out, by the instructions that go on, and what came last
	bits := make([]byte, (len(waiting)+7)/8)
	for _, c := range r.runes {
		s, ok := r.alphabet.step(p.seen, c)
		if !ok {
			continue
		}
		last := r.lastOf(c)
		if r.empty {
			waiting = r.closure(p.at, p.last, c, nil)
			bits = make([]byte, 4*len(waiting)+1)
			bits[0] = byte(last)
		}
		r.taking(waiting, c, bits)
		if slices.ContainsFunc(taken[string(bits)], func(k int) bool { return out[k].seen == s || r.alphabet.least(out[k].seen) }) {
			continue // one that bears all that could follow this one
		}
		taken[string(bits)] = append(taken[string(bits)], len(out))
		next := place{last: last, seen: s, by: c}
		for _, pc := range waiting {
			if i := r.insts[pc]; i.takes(c) {
				next.at = append(next.at, r.offsets[r.of[pc]]+i.Out)
			}
		}
		slices.Sort(next.at)
		next.at = slices.Compact(next.at)
		out = append(out, next)
	}
	return out
}

// taking writes which of the waiting instructions take a character: a bit for each or, where
// they depend on the character, their numbers behind the first byte.
func (r *runner) taking(waiting []uint32, c rune, into []byte) {
	if r.empty {
		clear(into[1:])
		at := into[1:]
		for _, pc := range waiting {
			if r.insts[pc].takes(c) {
				binary.LittleEndian.PutUint32(at, pc+1)
				at = at[4:]
			}
		}
		return
	}
	clear(into)
	for k, pc := range waiting {
		if r.insts[pc].takes(c) {
			into[k/8] |= 1 << (k % 8)
		}
	}
}

// text returns the text that leads to a place.
func text(places []place, n int) string {
	var runes []rune
	for ; places[n].from >= 0; n = places[n].from {
		runes = append(runes, places[n].by)
	}
	slices.Reverse(runes)
	return string(runes)
}

// bitKey tells rows of bits apart.
func bitKey(bits []bool) string {
	b := make([]byte, (len(bits)+7)/8)
	for i, on := range bits {
		if on {
			b[i/8] |= 1 << (i % 8)
		}
	}
	return string(b)
}
