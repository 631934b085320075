package trace

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/rng"
	"kestrix/internal/core/units"
)

// Spec says what trace is to be made.
type Spec struct {
	Seed       uint64
	Start      time.Time
	For        time.Duration
	Rate       float64 // requests a second, on average over For
	Arrivals   string  // "poisson" or "even"
	Shape      string  // one of Shapes
	Clients    int
	Popularity float64 // exponent of the zipf distribution of clients; 0 makes them equal
	Behind     float64 // share of the clients that share Addresses with others
	Addresses  int     // of those, at least 1
	Paths      []WeightedPath
	Host       string        // empty: the format names none
	Sessions   bool          // each client has one of its own
	Headers    []Sent        // that clients send, and no others; none: which they send is unknown
	Cookies    []Sent        // likewise
	Pages      []*Page       // in the order of their numbers
	Mean       time.Duration // of the answer's duration, lognormal
	CV         float64       // its coefficient of variation
}

// WeightedPath is a request line and how often it comes beside the others.
// {n} in the path stands for a number from 1 to 200, drawn anew each time.
type WeightedPath struct {
	Method string
	Path   string
	Weight float64
}

// Page is what a client fetches when a path was answered.
type Page struct {
	N       int    // its number, from 1
	Path    string // one of Spec.Paths
	Fetches []WeightedPath
	AtOnce  int // how many it fetches at the same time
}

// Sent is a header field or cookie that clients send. Each always sends one of the values,
// divided by their weights, or none if that is empty.
type Sent struct {
	Name   string
	Values []WeightedText
}

// WeightedText is a text and how often it comes beside the others.
type WeightedText struct {
	Text   string
	Weight float64
}

// ParseSent reads "beta=5", "beta", or "=95" for the clients that send nothing.
func ParseSent(s string) (WeightedText, error) {
	text, weight, err := weighted(s)
	if err == nil && strings.ContainsFunc(text, func(c rune) bool { return c < ' ' || c > '~' || c == ';' || c == ',' || c == '"' }) {
		err = fmt.Errorf("%q: a value holds letters, digits and signs, but no comma, semicolon or quote", s)
	}
	return WeightedText{text, weight}, err
}

// weighted divides a text from the weight after its last =, 1 if there is none.
func weighted(s string) (string, float64, error) {
	i := strings.LastIndexByte(s, '=')
	if i < 0 {
		return s, 1, nil
	}
	x, err := strconv.ParseFloat(s[i+1:], 64)
	if err != nil || x < 0 || math.IsNaN(x) || math.IsInf(x, 0) {
		return s, 1, fmt.Errorf("%q: the weight after = is no number of 0 or more", s)
	}
	return s[:i], x, nil
}

// of returns what one client sends, empty for nothing.
func (s *Sent) of(bits uint64) string {
	sum := 0.0
	for _, v := range s.Values {
		sum += v.Weight
	}
	at := rng.Unit(bits) * sum
	for _, v := range s.Values {
		if at -= v.Weight; at < 0 {
			return v.Text
		}
	}
	return ""
}

// Shapes are the courses of the rate over time; each has mean 1.
var Shapes = map[string]func(share float64) float64{
	"steady": func(float64) float64 { return 1 },
	"ramp":   func(x float64) float64 { return 0.1 + 1.8*x },
	"spike": func(x float64) float64 {
		// A tenth of the time at five times the rate of the rest.
		const rest = 1 / (0.9 + 0.1*5)
		if x >= 0.45 && x < 0.55 {
			return 5 * rest
		}
		return rest
	},
	"day": func(x float64) float64 { return 1 - 0.8*math.Cos(2*math.Pi*x) },
}

// ParsePath reads "/seats=5", "POST /book=1" or "/seats".
func ParsePath(s string) (WeightedPath, error) {
	w := WeightedPath{Method: "GET"}
	var err error
	if w.Path, w.Weight, err = weighted(s); err != nil {
		return w, err
	}
	if m, p, ok := strings.Cut(w.Path, " "); ok {
		w.Method, w.Path = m, p
	}
	if !strings.HasPrefix(w.Path, "/") || strings.ContainsAny(w.Path, " \"\\") {
		return w, fmt.Errorf("%q: a path begins with / and holds no spaces or quotes, as in \"/seats=5\" or \"POST /book=1\"", s)
	}
	if w.Method == "" || strings.ToUpper(w.Method) != w.Method || strings.ContainsAny(w.Method, "\"\\") {
		return w, fmt.Errorf("%q: the method is a word in capitals", s)
	}
	return w, nil
}

// Validate returns what in a spec cannot be made.
func (s *Spec) Validate() error {
	switch {
	case !(s.Rate > 0) || s.Rate > 1e7:
		return fmt.Errorf("the rate is %g requests a second; more than 0 and at most 10,000,000 can be made", s.Rate)
	case s.For <= 0 || s.For > 366*24*time.Hour:
		return fmt.Errorf("the time to make is %s; more than 0 s and at most a year can be made", units.Duration(s.For))
	case s.Clients < 1 || s.Clients > 100_000_000:
		return fmt.Errorf("%d clients; from 1 to 100,000,000 can be made", s.Clients)
	case s.Popularity < 0 || s.Popularity > 10 || math.IsNaN(s.Popularity):
		return fmt.Errorf("the popularity exponent is %g; from 0 to 10 can be made", s.Popularity)
	case Shapes[s.Shape] == nil:
		return fmt.Errorf("there is no shape %q; known: day, ramp, spike, steady", s.Shape)
	case s.Arrivals != "poisson" && s.Arrivals != "even":
		return fmt.Errorf("arrivals cannot be %q; known: poisson, even", s.Arrivals)
	case s.Mean < 0 || s.CV < 0 || s.CV > 100:
		return fmt.Errorf("a duration of mean %s and variation %g cannot be made", units.Duration(s.Mean), s.CV)
	}
	total := 0.0
	for _, p := range s.Paths {
		total += p.Weight
	}
	if total <= 0 {
		return fmt.Errorf("the weights of all paths together are 0")
	}
	for _, x := range slices.Concat(s.Headers, s.Cookies) {
		if !slices.ContainsFunc(x.Values, func(v WeightedText) bool { return v.Weight > 0 }) {
			return fmt.Errorf("the weights of all values of %s together are 0", x.Name)
		}
	}
	return nil
}

// Generator makes records one after the other.
type Generator struct {
	spec    Spec
	shape   func(float64) float64
	top     float64 // the highest value of shape
	n       uint64
	tries   uint64
	at      float64 // seconds since the start
	clients []float64
	paths   []float64
	page    *Page // of the last request; nil for none
	fetched int   // how much of it Next has made
	asker   int   // who sent that request
	host    []byte
	method  []byte
	path    []byte
	client  []byte
	agent   []byte
	session []byte
	shaper  *rng.Shaper
	takes   rng.LogNormal
	sizes   rng.LogNormal // of answers, in bytes
}

// NewGenerator makes a generator of a spec that Validate accepts.
func NewGenerator(s Spec) *Generator {
	g := &Generator{
		spec: s, shape: Shapes[s.Shape], shaper: rng.NewShaper(), host: []byte(s.Host),
		takes: rng.NewLogNormal(float64(s.Mean), s.CV), sizes: rng.NewLogNormal(2000, 1.5),
	}
	for i := range 1001 {
		g.top = max(g.top, g.shape(float64(i)/1000))
	}
	sum := 0.0
	for _, p := range s.Paths {
		sum += p.Weight
		g.paths = append(g.paths, sum)
	}
	sum = 0
	g.clients = make([]float64, s.Clients)
	for i := range g.clients {
		sum += math.Pow(float64(i+1), -s.Popularity)
		g.clients[i] = sum
	}
	return g
}

// Next makes the next record, false when the time is over. Arrivals of the
// Poisson kind follow the shape by thinning (Lewis and Shedler, 1979).
func (g *Generator) Next(r *Record) bool {
	s := &g.spec
	if g.fetched < len(g.fetches()) {
		g.Fetch(r, g.fetched)
		g.fetched++
		r.Time = s.Start.UnixNano() + int64(math.Round(g.at*1e9))
		return true
	}
	length := s.For.Seconds()
	for {
		g.tries++
		if s.Arrivals == "even" {
			if g.n > 0 {
				g.at += 1 / (s.Rate * g.shape(g.at/length))
			}
		} else {
			g.at += rng.Exponential(rng.Bits(s.Seed, g.tries, 0, rng.Arrival)) / (s.Rate * g.top)
		}
		if g.at >= length-1e-9 { // sums of steps are not exact
			return false
		}
		if s.Arrivals == "even" || rng.Unit(rng.Bits(s.Seed, g.tries, 1, rng.Arrival))*g.top <= g.shape(g.at/length) {
			break
		}
	}
	who := sort.SearchFloat64s(g.clients, rng.Unit(rng.Bits(s.Seed, g.n, 0, rng.Who))*g.clients[len(g.clients)-1])
	g.Ask(r, min(who, len(g.clients)-1))
	r.Time = s.Start.UnixNano() + int64(math.Round(g.at*1e9))
	return true
}

// fetches returns what the client of the last request fetches after it.
func (g *Generator) fetches() []WeightedPath {
	if g.page == nil {
		return nil
	}
	return g.page.Fetches
}

// Ask makes the next record of one client, without its time, and not those that the client
// fetches after it: Fetch makes them.
func (g *Generator) Ask(r *Record, who int) {
	s := &g.spec
	g.who(r, who)
	what := rng.Bits(s.Seed, g.n, 0, rng.What)
	i := min(sort.SearchFloat64s(g.paths, rng.Unit(what)*g.paths[len(g.paths)-1]), len(g.paths)-1)
	for s.Paths[i].Weight == 0 { // a draw of exactly 0 may land on one
		i++
	}
	g.ask(r, &s.Paths[i], 1)
	g.page, g.fetched = nil, 0
	if len(s.Pages) > 0 {
		if k := slices.IndexFunc(s.Pages, func(p *Page) bool { return p.Path == s.Paths[i].Path }); k >= 0 {
			g.page, r.Page = s.Pages[k], s.Pages[k]
		}
	}
	g.asker = who
	g.n++
}

// Fetch makes the record of the k-th thing that the client of the last request fetches after it.
func (g *Generator) Fetch(r *Record, k int) {
	g.n--
	g.who(r, g.asker)
	g.ask(r, &g.page.Fetches[k], uint64(k)+2)
	g.n++
}

// who begins a record of a client.
func (g *Generator) who(r *Record, who int) {
	s := &g.spec
	r.reset()
	r.UserAgent = agents[rng.Below(rng.Bits(s.Seed, uint64(who), 1, rng.Who), len(agents))]
	address := who
	if s.Behind > 0 && rng.Unit(rng.Bits(s.Seed, uint64(who), 2, rng.Who)) < s.Behind {
		address = rng.Below(rng.Bits(s.Seed, uint64(who), 3, rng.Who), s.Addresses)
		g.agent = strconv.AppendInt(append(append(g.agent[:0], r.UserAgent...), ' '), int64(who), 10)
		r.UserAgent = g.agent // what tells it from the others there
	} else if s.Behind > 0 {
		address += s.Addresses
	}
	g.client = appendClient(g.client[:0], address)
	r.Client = g.client
	g.identify(r, who)
}

// ask has a record ask for a path, and be answered. part tells the parts of a page apart.
func (g *Generator) ask(r *Record, p *WeightedPath, part uint64) {
	s := &g.spec
	g.method = append(g.method[:0], p.Method...)
	r.Method = g.method
	before, after, numbered := strings.Cut(p.Path, "{n}")
	g.path = append(g.path[:0], before...)
	if numbered {
		g.path = strconv.AppendInt(g.path, int64(1+rng.Below(rng.Bits(s.Seed, g.n, part, rng.What), 200)), 10)
		g.path = append(g.path, after...)
	}
	r.Path = g.path
	r.Status = 200
	if p.Method == "POST" {
		r.Status = 201
	}
	if s.Host != "" {
		r.Host = g.host
	}
	r.Bytes = int64(g.sizes.Draw(g.shaper, rng.Bits(s.Seed, g.n, part-1, rng.Size)))
	r.Duration = int64(g.takes.Draw(g.shaper, rng.Bits(s.Seed, g.n, part-1, rng.Service)))
}

// identify has a record say what its client sends with every request.
func (g *Generator) identify(r *Record, who int) {
	s := &g.spec
	if s.Sessions {
		g.session = strconv.AppendInt(append(g.session[:0], 's'), int64(who)+1, 10)
		r.Session = g.session
	}
	r.Complete = len(s.Headers)+len(s.Cookies) > 0
	send := func(all []Sent, from uint64, to []KV) []KV {
		for k := range all {
			if v := all[k].of(rng.Bits(s.Seed, uint64(who), from+uint64(k), rng.Who)); v != "" {
				to = append(to, KV{[]byte(all[k].Name), []byte(v)})
			}
		}
		return to
	}
	r.Headers = send(s.Headers, 100, r.Headers)
	r.Cookies = send(s.Cookies, 200, r.Cookies)
}

// agents are made-up programs of made-up customers.
var agents = [][]byte{
	[]byte("TernApp/4.1 (phone)"), []byte("TernApp/4.0 (phone)"), []byte("TernApp/3.7 (tablet)"),
	[]byte("HarbourBrowser/12.0 (desk)"), []byte("HarbourBrowser/11.4 (desk)"), []byte("KioskPanel/2.2 (quay)"),
}

// appendClient writes the address of a client from the ranges that are kept
// for documentation (RFC 5737, RFC 3849).
func appendClient(b []byte, i int) []byte {
	v4 := [...]string{"203.0.113.", "198.51.100.", "192.0.2."}
	if i%4 != 3 {
		if k := i/4*3 + i%4; k < len(v4)*254 {
			b = append(b, v4[k/254]...)
			return strconv.AppendInt(b, int64(k%254+1), 10)
		}
	}
	b = append(b, "2001:db8:"...)
	b = strconv.AppendUint(b, uint64(i>>16&0xffff)+1, 16)
	b = append(b, "::"...)
	return strconv.AppendUint(b, uint64(i&0xffff)+1, 16)
}
