package config

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
)

// build makes the model from nodes that were read by the table.
func (d *Decoder) build(c *Config, roots []*Node) {
	d.share(roots)
	once := map[string]*Node{} // blocks that may be given once in all files together
	for _, root := range roots {
		for _, n := range root.Nodes {
			switch first := once[n.Def.Name]; {
			case n.Def.Name == "frontend":
				c.Frontends = append(c.Frontends, d.frontend(n))
			case n.Def.Name == "upstream":
				c.Upstreams = append(c.Upstreams, d.upstream(n))
			case n.Def.Name == "let":
				for name, v := range n.values {
					c.Lets = append(c.Lets, Let{name, v.Range, d.lets[name]})
				}
			case first != nil && n.Def.Name != "common": // share has reported that
				d.Add(IDTwice, n.Range, n.Def.Name+" is given twice", fmt.Sprintf("the first is at %s:%d", first.Range.Filename, first.Range.Start.Line))
			default:
				once[n.Def.Name] = n
			}
		}
	}
	d.topKeys(c, roots)
	slices.SortFunc(c.Lets, func(a, b Let) int { return strings.Compare(a.Name, b.Name) })
	given := func(name string) *Node { return cmp.Or(once[name], &Node{Def: Language.Block(name)}) }
	if n := once["control"]; n != nil {
		c.Control = d.control(n)
	}
	c.AccessLog = d.accessLog(given("access_log"), "")
	c.AccessLog.Given = once["access_log"] != nil
	d.routesLogged(c)
	c.EventLog = d.eventLog(given("event_log"))
	syslog := given("syslog")
	if once["syslog"] != nil && !slices.ContainsFunc(c.AccessLogs(), func(l AccessLog) bool { return l.To.Value == "syslog" }) && !c.EventLog.Syslog {
		d.Add(IDUnknown, syslog.Range, "syslog says which log server, and nothing goes there", "access_log { to = \"syslog\" } or event_log { syslog = true }, or remove the block")
	}
	c.Syslog = d.syslog(syslog)
	if n := once["tracing"]; n != nil {
		c.Tracing = d.tracing(n)
	}
}

// topKeys reads the keys at the top, each of which may stand once in all files
// together.
func (d *Decoder) topKeys(c *Config, roots []*Node) {
	all := &Node{Def: Language, values: map[string]Placed[any]{}}
	for _, root := range roots {
		for _, n := range root.Nodes {
			if !n.Def.Many && all.One(n.Def.Name) == nil {
				all.Nodes = append(all.Nodes, n)
			}
		}
	}
	for _, root := range roots {
		for _, k := range Language.Keys {
			v, ok := root.values[k.Name]
			if !ok {
				continue
			}
			if first, twice := all.values[k.Name]; twice {
				d.Add(IDTwice, v.Range, k.Name+" is given twice", fmt.Sprintf("the first is at %s:%d", first.Range.Filename, first.Range.Start.Line))
				continue
			}
			all.values[k.Name] = v
		}
	}
	c.Settings = settings(all, "")
	c.Identity = d.identity(all)
	c.Zone = Placed[string]{Get[string](all, "zone"), all.At("zone")}
	for _, u := range c.Upstreams {
		if u.Failover != nil && u.Failover.PreferZone {
			u.OwnZone = c.Zone.Value
			if c.Zone.Value == "" && len(d.syntax) == 0 {
				d.Add(IDMissing, u.Failover.Range, fmt.Sprintf("the failover of %q prefers the proxy's own zone, and none is given", u.Name), "zone = \"north-quay\" at the top says where this proxy stands")
			}
		}
	}
	c.Trusted, c.TrustedAt = Get[[]netip.Prefix](all, "trusted_proxies"), all.At("trusted_proxies")
	c.Record = Placed[string]{Get[string](all, "record"), all.At("record")}
	c.ClientFrom = Get[string](all, "client_from")
	if all.Has("client_from") {
		c.ClientFromAt = all.At("client_from")
	}
	c.StopNotice = Get[time.Duration](all, "stop_notice")
	_, c.StopNoticeGiven = all.values["stop_notice"]
	c.ConnectionsTotal = Get[int](all.child("limits"), "connections_total")
}

func (d *Decoder) frontend(n *Node) *Frontend {
	f := &Frontend{
		Name: n.Label.Value, Range: n.Range,
		Listen: Get[[]Placed[Address]](n, "listen"), Protocol: Get[string](n, "protocol"),
	}
	f.ProxyProtocol, f.ProtocolAt = Get[bool](n, "proxy_protocol"), n.At("protocol")
	f.Settings = settings(n, "")
	if x := n.One("tls"); x != nil {
		f.TLS = d.frontTLS(x, f.Protocol)
	}
	t := n.child("timeouts")
	f.Timeouts = FrontTimeouts{RequestHeader: Get[time.Duration](t, "request_header"), RequestBody: Get[time.Duration](t, "request_body"), Idle: Get[time.Duration](t, "idle"), HalfClosed: Get[time.Duration](t, "half_closed")}
	f.Limits = d.limits(n.child("limits"))
	f.ClearHTTP2 = Get[bool](n, "clear_http2")
	f.PassFields = d.passFields(n)
	f.Errors = d.errors(n.child("errors"))
	f.AccessLogs = d.frontendLogs(n, f.Name)
	if f.Protocol == "tcp" {
		f.PassFields = nil // of common
		d.onlyHTTP(n, "clear_http2", "pass_fields")
		d.onlyHTTP(n.child("timeouts"), "request_body", "half_closed")
		d.onlyHTTP(n.child("limits"), "body_rate", "stalled_streams")
		if x := n.One("errors"); x != nil && !x.shared {
			d.Add(IDUnknown, x.Range, "errors belongs to frontends of http; tcp carries bytes", "remove it")
		}
	}
	for _, r := range n.All("route") {
		route := &Route{Name: r.Label.Value, Range: r.Range, SendTo: Get[Placed[string]](r, "send_to")}
		route.When.Range = r.Range
		route.Settings = settings(r, "")
		if w := r.One("when"); w != nil {
			route.When = d.when(w)
		}
		route.Timeouts = waits(r.child("timeouts"))
		route.StreamAt = r.child("timeouts").At("stream")
		route.Limits = d.limits(r.child("limits"))
		route.StreamRequests = Get[bool](r, "stream_requests")
		d.own(r, route)
		switch {
		case !route.StreamRequests:
		case f.Protocol == "tcp":
			d.onlyHTTP(r, "stream_requests")
		case route.Answer() != "":
			d.Add(IDUnknown, r.At("stream_requests"), "stream_requests belongs to a route that sends to an upstream", "remove it")
		}
		if x := r.One("rewrite"); x != nil {
			route.Rewrite = d.rewrite(x)
			if route.Answer() != "" {
				d.Add(IDUnknown, x.Range, "rewrite belongs to a route that sends to an upstream", "remove it")
			}
		}
		if x := r.One("headers"); x != nil {
			route.Headers = d.headers(x)
			if route.Answer() != "" && route.Headers.Request != nil {
				d.Add(IDUnknown, x.Range, "headers of the request belong to a route that sends to an upstream", "keep headers { answer { ... } }")
			}
		}
		f.Routes = append(f.Routes, route)
	}
	return f
}

// own reads what a route answers by itself, and holds it to one way of
// answering.
func (d *Decoder) own(n *Node, route *Route) {
	found := 0
	if n.Has("send_to") {
		found++
	}
	if r := n.One("redirect"); r != nil {
		found++
		route.Redirect = &Redirect{Range: r.Range, To: Get[string](r, "to"), Status: Get[int](r, "status")}
		d.redirect(r, route.Redirect)
	}
	if r := n.One("reply"); r != nil {
		found++
		route.Reply = &Reply{Range: r.Range, Status: Get[int](r, "status"), Body: Get[string](r, "body"), ContentType: Get[string](r, "content_type")}
		if strings.ContainsFunc(route.Reply.ContentType, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			d.Add(IDType, r.At("content_type"), "the content type holds a control character", "like \"text/html; charset=utf-8\"")
		}
	}
	switch {
	case found == 0 && len(d.syntax) == 0:
		d.Add(IDMissing, n.Range, fmt.Sprintf("route %q says nothing of who answers", n.Label.Value), "send_to = upstream.NAME, or a redirect or reply block")
	case found > 1:
		d.Add(IDTwice, n.Range, fmt.Sprintf("route %q has more than one way to answer", n.Label.Value), "keep one of send_to, redirect and reply")
	}
}

// redirect holds a target against what a Location may be (RFC 9110 section
// 10.2.2).
func (d *Decoder) redirect(n *Node, r *Redirect) {
	if !n.Has("to") || n.values["to"].Value == nil {
		return
	}
	rest := strings.NewReplacer("{host}", "", "{path}", "").Replace(r.To)
	switch {
	case strings.ContainsAny(rest, "{}"):
		d.Add(IDType, n.At("to"), "only {host} and {path} stand for something here", "like \"https://{host}{path}\"")
	case !strings.HasPrefix(r.To, "http://") && !strings.HasPrefix(r.To, "https://") && !strings.HasPrefix(r.To, "/"):
		d.Add(IDType, n.At("to"), fmt.Sprintf("%q is not a URL and not a path", shorten(r.To)), "like \"https://{host}{path}\" or \"/new\"")
	case strings.ContainsFunc(r.To, func(r rune) bool { return r <= ' ' || r == 0x7f }):
		d.Add(IDType, n.At("to"), "the target contains a space or control character", "write it as %20")
	}
	switch r.Status {
	case 301, 302, 303, 307, 308:
	default:
		d.Add(IDChoice, n.At("status"), fmt.Sprintf("%d is not a status that redirects", r.Status), "one of 301, 302, 303, 307, 308")
	}
}

func (d *Decoder) when(n *Node) When {
	w := When{
		Range: n.Range,
		Host:  Get[[]Match](n, "host"), Path: Get[[]Match](n, "path"), Method: Get[[]Match](n, "method"),
		Header: Get[[]MatchPair](n, "header"), Query: Get[[]MatchPair](n, "query"), Cookie: Get[[]MatchPair](n, "cookie"),
		SNI: Get[[]Match](n, "sni"),
	}
	for _, x := range n.All("any") {
		part := d.when(x)
		if part.Empty() && !x.Has("client") {
			d.Add(IDMissing, x.Range, "the any block asks for nothing, so that it matches everything", "remove it, or say what it asks for")
		}
		w.Any = append(w.Any, part)
	}
	d.patterns(&w)
	for _, c := range Get[[]Match](n, "client") {
		p, err := parsePrefix(c.Text)
		if err != nil || c.Regexp != nil {
			d.Add(IDType, c.Range, fmt.Sprintf("client %q is not an address or network", shorten(c.Text)), "like \"203.0.113.9\" or \"2001:db8::/32\"")
			continue
		}
		w.Client = append(w.Client, ClientMatch{p, c.Not, c.Range})
	}
	return w
}

// patterns refuses hosts, paths and methods that are none.
func (d *Decoder) patterns(w *When) {
	for _, h := range slices.Concat(w.Host, w.SNI) {
		if h.Regexp != nil {
			continue
		}
		if i := strings.LastIndexByte(h.Text, ':'); i >= 0 && !strings.HasSuffix(h.Text, "]") {
			d.Add(IDType, h.Range, fmt.Sprintf("host %q holds a port", shorten(h.Text)), "hosts are compared without their port")
		}
		d.wildcards(h, ".", true)
	}
	for _, p := range w.Path {
		if p.Regexp != nil {
			continue
		}
		if !strings.HasPrefix(p.Text, "/") && p.Text != "**" && p.Text != "*" {
			d.Add(IDType, p.Range, fmt.Sprintf("the path %q does not begin with /", shorten(p.Text)), "write \"/"+shorten(p.Text)+"\"")
		}
		if strings.ContainsAny(p.Text, "?#") {
			d.Add(IDType, p.Range, fmt.Sprintf("the path %q holds a query", shorten(p.Text)), "paths are compared without their query; query = { name = \"value\" } asks for that")
		}
		d.wildcards(p, "/", false)
	}
	for _, m := range w.Method {
		if m.Regexp != nil || m.Text == "" || strings.ToUpper(m.Text) != m.Text || strings.ContainsAny(m.Text, " \t*") {
			d.Add(IDType, m.Range, fmt.Sprintf("%q is not a request method", shorten(m.Text)), "methods are case-sensitive words, like \"GET\" or \"POST\"")
		}
	}
}

// wildcards refuses a ** where it would have to stand for part of a segment,
// or in the middle, where "the rest" has no meaning.
func (d *Decoder) wildcards(p Match, sep string, leading bool) {
	segments := strings.Split(p.Text, sep)
	for i, s := range segments {
		if !strings.Contains(s, "**") {
			continue
		}
		at, where := len(segments)-1, "at the end"
		if leading {
			at, where = 0, "at the beginning"
		}
		if s != "**" || i != at {
			d.Add(IDType, p.Range, fmt.Sprintf("** stands for the rest in %q and can only be a whole segment %s", shorten(p.Text), where), "* stands for one segment, or for part of one")
			return
		}
	}
}

func parsePrefix(s string) (netip.Prefix, error) {
	if strings.Contains(s, "/") {
		p, err := netip.ParsePrefix(s)
		return p.Masked(), err
	}
	a, err := netip.ParseAddr(s)
	if err != nil {
		return netip.Prefix{}, err
	}
	return a.Prefix(a.BitLen())
}

// connectFrom reads the address from which backends are connected to; those that have an
// address of the other family cannot be reached from it.
func (d *Decoder) connectFrom(n *Node, u *Upstream) netip.Addr {
	if !n.Has("connect_from") {
		return netip.Addr{}
	}
	text := Get[string](n, "connect_from")
	from, err := netip.ParseAddr(text)
	if err != nil || from.IsUnspecified() || from.IsMulticast() {
		d.Add(IDType, n.At("connect_from"), fmt.Sprintf("connect_from %q is no address of a machine", shorten(text)), "like \"192.0.2.5\" or \"2001:db8::5\", without a port")
		return netip.Addr{}
	}
	from = from.Unmap()
	for _, b := range u.Backends {
		switch to, isIP := b.Address.IP(); {
		case b.Address.Unix != "":
			d.Add(IDType, n.At("connect_from"), fmt.Sprintf("the backend %q is a unix socket, which is connected to from no address", b.Name), "remove it, or give the backend an upstream of its own")
		case isIP && to.Unmap().Is4() != from.Is4():
			d.Add(IDType, n.At("connect_from"), fmt.Sprintf("the backend %q at %s cannot be reached from %s: one is IPv4, the other IPv6", b.Name, b.Address, from), "an address of the same family")
		}
	}
	return from
}

func (d *Decoder) upstream(n *Node) *Upstream {
	u := &Upstream{
		Name: n.Label.Value, Range: n.Range,
		Algorithm: Get[string](n, "algorithm"), AlgorithmAt: n.At("algorithm"),
		Backends: Get[[]Backend](n, "backends"), BackendsAt: n.At("backends"),
	}
	d.backendsFrom(n, u)
	d.hash(n, u)
	u.Ramp, u.RampAt = Get[time.Duration](n, "slow_start"), n.At("slow_start")
	u.TryAnyway = Get[string](n, "when_all_down") == "try-anyway"
	u.OnDown = Get[string](n, "on_down")
	u.ConnectFrom = d.connectFrom(n, u)
	for _, f := range d.Findings {
		in := f.Range.Filename == u.BackendsAt.Filename && f.Range.Start.Byte >= u.BackendsAt.Start.Byte && f.Range.Start.Byte < u.BackendsAt.End.Byte
		u.Partial = u.Partial || in && n.Has("backends")
	}
	if p := n.One("probe"); p != nil {
		u.Probe = d.probe(p)
	}
	if s := n.One("suspend"); s != nil {
		u.Suspend = &Suspend{
			Range: s.Range, After: Get[int](s, "after"), Rest: Get[time.Duration](s, "rest"),
			Growth: Get[float64](s, "growth"), Longest: Get[time.Duration](s, "longest"),
			Keep: Get[float64](s, "keep"), On: d.failures(s), LongestAt: s.At("longest"),
		}
	}
	if s := n.One("sticky"); s != nil {
		u.Sticky = d.sticky(s)
	}
	if r := n.One("retry"); r != nil {
		u.Retry = &Retry{Range: r.Range, Attempts: Get[int](r, "attempts"), On: d.failures(r), Budget: Get[float64](r, "budget")}
		if r.Has("budget") && r.values["budget"].Value != nil && u.Retry.Budget == 0 {
			d.Add(IDLimit, r.At("budget"), "a budget of 0% lets nothing be repeated", "leave retry out, or give it a share")
		}
	}
	d.failover(n, u)
	if q := n.One("queue"); q != nil {
		u.Queue = &Queue{Range: q.Range, Limit: Get[int](q, "limit"), Timeout: Get[time.Duration](q, "timeout")}
	}
	d.resolving(n, u)
	u.ProxyProtocol, u.ProxyProtocolAt = Get[string](n, "proxy_protocol"), n.At("proxy_protocol")
	u.HTTPVersion, u.HTTPVersionAt = Get[string](n, "http_version"), n.At("http_version")
	if u.HTTP2() && u.ProxyProtocol != "" {
		d.Add(IDChoice, u.HTTPVersionAt, "HTTP/2 puts many clients on one connection, whose PROXY protocol header can name only one", "leave proxy_protocol out: X-Forwarded-For and Forwarded name the client of each request")
	}
	u.Settings = settings(n, "")
	if x := n.One("tls"); x != nil {
		u.TLS = d.upstreamTLS(x)
	}
	t := n.child("timeouts")
	if s := n.One("suspend"); s != nil {
		u.Suspend.SilentAfter = waits(t).Answer
		if s.Has("silent_after") {
			u.Suspend.SilentAfter = Get[time.Duration](s, "silent_after")
		}
	}
	u.Timeouts = Timeouts{Range: t.Range, Connect: Get[time.Duration](t, "connect"), Kept: Get[time.Duration](t, "kept"), Age: Get[time.Duration](t, "connection_age"), Waits: waits(t)}
	return u
}

func waits(n *Node) Waits {
	return Waits{
		Answer: Get[time.Duration](n, "answer"), Idle: Get[time.Duration](n, "idle"), Stream: Get[time.Duration](n, "stream"),
		given: [3]bool{n.Has("answer"), n.Has("idle"), n.Has("stream")},
	}
}

// hash reads what a hash goes by.
func (d *Decoder) hash(n *Node, u *Upstream) {
	h := n.child("hash")
	if u.Algorithm != "hash" {
		if own := n.One("hash"); own != nil && !own.shared && u.Algorithm != "" {
			d.Add(IDUnknown, h.Range, fmt.Sprintf("hash has no effect with algorithm = %q", u.Algorithm), "algorithm = \"hash\", or remove it")
		}
		return
	}
	u.Hash = &Hash{Range: h.Range, Key: Get[string](h, "key"), Name: Get[string](h, "name"), Method: Get[string](h, "method"), Bound: Get[float64](h, "bound")}
	named := containsText([]string{"header", "cookie", "query"}, u.Hash.Key)
	switch {
	case named && !h.Has("name"):
		d.Add(IDMissing, h.At("key"), fmt.Sprintf("a hash by %s needs its name", u.Hash.Key), "name = \"X-Tenant\"")
	case !named && h.Has("name"):
		d.Add(IDUnknown, h.At("name"), fmt.Sprintf("a hash by %s has no name", u.Hash.Key), "remove it, or key = \"header\"")
	}
	if a := u.Balance(); h.Has("bound") && a != nil && !a.Bounded {
		d.Add(IDUnknown, h.At("bound"), fmt.Sprintf("bound belongs to the ring, and this is %s", u.Hash.Method), "method = \"ring\", or remove it")
	}
}

// failover reads it, and holds tiers and zones of backends to there being one.
func (d *Decoder) failover(n *Node, u *Upstream) {
	f := n.One("failover")
	if f != nil {
		u.Failover = &Failover{Range: f.Range, PreferZone: Get[string](f, "prefer") == "zone", SpillBelow: Get[float64](f, "spill_below"), SpillAt: Get[float64](f, "spill_at")}
		d.spillAt(f, u)
		if f.Has("spill_below") && u.Failover.SpillBelow <= 0 && f.values["spill_below"].Value != nil {
			d.Add(IDLimit, f.At("spill_below"), "spill_below is above 0%", "100% spills as soon as one backend is out")
		}
	}
	for _, b := range u.Backends {
		switch {
		case b.Address.Service && f == nil:
			d.Add(IDMissing, b.AddressAt, fmt.Sprintf("the priorities of %s have no effect without failover", b.Address), "failover { } in the upstream")
		case b.Tier > 1 && f == nil:
			d.Add(IDMissing, b.AddressAt, fmt.Sprintf("the tier of %q has no effect without failover", b.Name), "failover { } in the upstream")
		case b.Zone != "" && (f == nil || !u.Failover.PreferZone):
			d.Add(IDMissing, b.AddressAt, fmt.Sprintf("the zone of %q has no effect", b.Name), "failover { prefer = \"zone\" } in the upstream")
		}
	}
}

// spillAt holds a failover by load to what it needs.
func (d *Decoder) spillAt(f *Node, u *Upstream) {
	if !f.Has("spill_at") || f.values["spill_at"].Value == nil {
		return
	}
	if u.Failover.SpillAt <= 0 {
		d.Add(IDLimit, f.At("spill_at"), "spill_at is above 0%", "80% leaves a fifth of the room for sessions and peaks")
	}
	if f.Has("spill_below") {
		d.Add(IDUnknown, f.At("spill_below"), "requests spill by load, and spill_below is of health", "remove spill_below, or spill_at")
	}
	for _, b := range u.Backends {
		if b.MaxInFlight == 0 && !b.Address.Service {
			d.Add(IDMissing, b.AddressAt, fmt.Sprintf("spill_at needs to know how many requests %q works on at once", b.Name), "max_in_flight = 16 of each backend")
		}
	}
}

func (d *Decoder) sticky(n *Node) *Sticky {
	s := &Sticky{
		Range: n.Range, By: Get[string](n, "by"), Name: Get[string](n, "name"), TTL: Get[time.Duration](n, "ttl"),
		OnLoss: Get[string](n, "on_loss"), Secret: Get[string](n, "secret"), Pass: Get[bool](n, "pass_cookie"),
	}
	for _, k := range []struct {
		key  string
		by   []string
		what string
	}{{"name", []string{"cookie", "existing-cookie", "header"}, "a cookie or header field"}, {"secret", []string{"cookie"}, "a cookie of our own"}, {"pass_cookie", []string{"cookie"}, "a cookie of our own"}} {
		if n.Has(k.key) && s.By != "" && !containsText(k.by, s.By) {
			d.Add(IDUnknown, n.At(k.key), fmt.Sprintf("%s belongs to %s, and this is sticky by %s", k.key, k.what, s.By), "remove it, or write by = \"cookie\"")
		}
	}
	if !n.Has("name") {
		switch s.By {
		case "existing-cookie", "header":
			d.Add(IDMissing, n.Range, fmt.Sprintf("sticky by %s has no name", s.By), "name = \"session\"")
		}
		s.Name = "kestrix_seat"
	}
	// RFC 6265 section 4.1.1: a cookie's name is a token of RFC 9110.
	if s.Name == "" || strings.ContainsFunc(s.Name, func(r rune) bool {
		return r <= ' ' || r >= 0x7f || strings.ContainsRune("()<>@,;:\\\"/[]?={}", r)
	}) {
		d.Add(IDType, n.At("name"), fmt.Sprintf("%q cannot be the name of a cookie or header field", shorten(s.Name)), "letters, digits, - and _")
	}
	if text, read := n.values["secret"].Value.(string); read && len(text) < 16 {
		d.Add(IDLimit, n.At("secret"), "the secret is shorter than 16 characters", "one that cannot be guessed, as from: head -c 24 /dev/urandom | base64")
	}
	return s
}

func parseStatusRange(s string) (StatusRange, bool) {
	a, b, isRange := strings.Cut(s, "-")
	if !isRange {
		b = a
	}
	from, ok1 := parseStatus(a)
	to, ok2 := parseStatus(b)
	return StatusRange{from, to}, ok1 && ok2 && from <= to
}

func parseStatus(s string) (int, bool) {
	n, err := strconv.Atoi(strings.TrimSpace(s))
	return n, err == nil && n >= 100 && n <= 599
}
