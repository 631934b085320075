package route

// Overlap is two routes that both take some requests although neither takes all
// that the other would.
type Overlap struct {
	First, Second int    // positions in the frontend
	Witness       string // a request that fits both
}

// maxOverlaps bounds the routes of a frontend that are compared with each other.
const maxOverlaps = 200

// Overlaps finds them, as far as a request that fits both is easily made. Each
// witness has been held against both routes, and is taken by the first. Of a
// route, the first overlap is told.
func (t *Table) Overlaps() []Overlap {
	var out []Overlap
	if len(t.rules) > maxOverlaps {
		return nil
	}
	for j := range t.rules {
		for i := range j {
			a, b := &t.rules[i], &t.rules[j]
			if a.asks == 0 || b.asks == 0 || a.covers(b) || b.covers(a) {
				continue
			}
			both := a.and(b)
			q, words := both.sample()
			if t.Frontend.Protocol == "tcp" {
				words = connectionWords(&both, &q)
			}
			if a.fails(&q) != 0 || b.fails(&q) != 0 {
				continue
			}
			if takes, _ := t.Match(&q); takes == i {
				out = append(out, Overlap{i, j, words})
				break
			}
		}
	}
	return out
}

// and makes a rule whose sample may fit both: of each field, what the narrower
// of the two says.
func (r *rule) and(o *rule) rule {
	x := *r
	pick := func(a, b set) set {
		if len(a.fits) == 0 || len(b.fits) > 0 && a.covers(&b) {
			a.fits = b.fits
		}
		a.not = append(append([]Pattern{}, a.not...), b.not...)
		return a
	}
	x.host, x.path, x.sni = pick(r.host, o.host), pick(r.path, o.path), pick(r.sni, o.sni)
	if len(x.method.fits) == 0 || len(o.method.fits) > 0 && r.method.covers(&o.method) {
		x.method.fits = o.method.fits
	}
	if len(x.client.fits) == 0 || len(o.client.fits) > 0 && r.client.covers(&o.client) {
		x.client.fits = o.client.fits
	}
	x.header = append(append([]fieldRule{}, r.header...), o.header...)
	x.query = append(append([]fieldRule{}, r.query...), o.query...)
	x.cookie = append(append([]fieldRule{}, r.cookie...), o.cookie...)
	return x
}
