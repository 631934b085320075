package config

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/template"
)

// AccessLog says where access lines go, which, and how they look.
type AccessLog struct {
	Name      string   // empty for the one at the top
	Frontends []string // whose lines it has; none: all
	Range     hcl.Range
	Given     bool
	To        Placed[string] // stdout, stderr, off, syslog or a path
	Format    string         // combined or json, where Line is nil
	Fields    []FieldPair    // key and AccessFields' name of each; none: all
	FieldsAt  hcl.Range
	Line      []template.Piece // of lines in a form of one's own; nil: Format says it
	LineText  string           // as it was written
	LineAt    hcl.Range
	Left      int            // status in lines of clients that left before the head of an answer; 0: none
	Share     float64        // of the requests that fit, below 1; 0: all
	Filters   []AccessFilter // a line must fit one of them; none: every line
}

// AccessFilter says which lines an access log has. Everything given must fit.
type AccessFilter struct {
	Routes  []string // names, or FRONTEND/ROUTE
	Status  []StatusRange
	Causes  []string      // words of package cause; "*" for any
	AtLeast time.Duration // that a request lasted
}

// AccessLogs returns the access logs of a configuration: the one at the top first, then those
// of the frontends in their order. One that common gives to several frontends is one log.
func (c *Config) AccessLogs() []AccessLog {
	out := []AccessLog{c.AccessLog}
	for _, f := range c.Frontends {
		for _, l := range f.AccessLogs {
			same := func(o AccessLog) bool { return o.Name != "" && o.Range == l.Range }
			if i := slices.IndexFunc(out, same); i >= 0 {
				out[i].Frontends = append(slices.Clone(out[i].Frontends), f.Name)
				continue
			}
			out = append(out, l)
		}
	}
	return out
}

// Special reports whether a destination is no file.
func (l *AccessLog) Special() bool {
	return slices.Contains([]string{"stdout", "stderr", "off", "syslog"}, l.To.Value)
}

// Syslog says which log server takes what goes to syslog, and how.
type Syslog struct {
	Range     hcl.Range
	Facility  int     // its code (RFC 5424 section 6.2.1)
	Transport string  // unix, udp or tcp
	Address   Address // of a unix socket for unix
	Format    string  // local, rfc3164 or rfc5424
}

// facilities are the codes of those that programs of users have (RFC 5424 section
// 6.2.1, table 1).
var facilities = map[string]int{"user": 1, "daemon": 3, "local0": 16, "local1": 17, "local2": 18, "local3": 19, "local4": 20, "local5": 21, "local6": 22, "local7": 23}

var accessLogKeys = []*Key{
	{Name: "to", Type: Text, Default: `"stdout"`, Why: "a service manager collects standard output, and nothing fills a disk unnoticed", Help: "destination: stdout, stderr, off, syslog (see the block syslog), or the path of a file", Example: `"access.log"`},
	{Name: "format", Type: Text, Default: `"combined"`, Why: "most tools read it, and replay reads its further fields", Allowed: []string{"combined", "json"},
		Meanings: []string{"Combined log lines with additional fields", "JSON Lines"}, Help: "format of the lines", Example: `"json"`},
	{Name: "fields", Ordered: true, Type: FieldTable, Help: "json format: keys in their order, each with its field; all fields under their own names if not given", Known: AccessFields, Meanings: accessFieldDocs,
		Example: `{ at = "time", who = "client", took = "duration", backend = "backend" }`},
	{Name: "line", Type: Text, Help: "lines of your own form instead of format: fields in braces among text, as replay -line reads them. Besides the values of fields there are {request}, {header:NAME}, {cookie:NAME}, {time:LAYOUT} with a layout of Go, and units as in {duration/ms} and {time/s}. A field without a value is -. Bytes that would end a value are %XX", Example: `"{client} {time} \"{request}\" {status} {duration/ms} {request_id}"`},
	{Name: "client_left_status", Type: Whole, Min: "400", Max: "499", Help: "status in the lines of clients that left before a response. If not given, JSON has no status and Combined 000. The cause is client_left in any case", Example: "498"},
	{Name: "share", Type: Percent, Default: `"100%"`, Why: "a log without gaps can be replayed and counted", Help: "share of the requests that get a line. The request id decides, so that logs with the same share have the same requests, also of several proxies", Example: `"1%"`},
}

var accessWhenBlock = &Block{
	Name: "when", Many: true, Told: true,
	Help: "requests that get a line: all conditions of one when block must match. Without when, every request does",
	Keys: []*Key{
		{Name: "route", Type: Texts, Help: "names of routes; FRONTEND/ROUTE where several frontends have one of the name", Example: `["seats", "board/live"]`},
		{Name: "status", Type: Texts, Help: "statuses of responses, or ranges of them", Example: `["404", "500-599"]`},
		{Name: "cause", Type: Texts, Help: "causes of failures, see causes.md; \"*\" is any cause, also client_left", Example: `["reset", "answer_timeout"]`},
		{Name: "at_least", Type: Duration, Help: "minimum duration of the request", Example: `"500ms"`},
	},
}

var accessLogBlock = &Block{
	Name: "access_log", Always: true,
	Help:   "access log: one line per request of any frontend, readable as a trace by replay",
	Keys:   accessLogKeys,
	Blocks: []*Block{accessWhenBlock},
}

var frontendLogBlock = &Block{
	Name: "access_log", Label: &Label{Name: "name"}, Many: true, Told: true,
	Help:   "additional access log of this frontend, besides access_log at the top",
	Keys:   accessLogKeys,
	Blocks: []*Block{accessWhenBlock},
}

var syslogBlock = &Block{
	Name: "syslog",
	Help: "log server for access_log { to = \"syslog\" } and event_log { syslog = true }; the one of this machine if not given",
	Keys: []*Key{
		{Name: "facility", Type: Text, Default: `"local0"`, Why: "the local facilities are free for applications (RFC 5424)", Allowed: []string{"user", "daemon", "local0", "local1", "local2", "local3", "local4", "local5", "local6", "local7"},
			Help: "syslog facility; the severity of access lines is informational", Example: `"local3"`},
		{Name: "transport", Type: Text, Default: `"unix"`, Why: "the log server of the same machine is the nearest", Allowed: []string{"unix", "udp", "tcp"},
			Meanings: []string{"datagrams of a Unix socket", "UDP (RFC 5426); lost lines are not detected", "TCP (RFC 6587)"}, Help: "transport to the log server", Example: `"tcp"`},
		{Name: "address", Type: Addr, Default: `"unix:/dev/log"`, Why: "Linux log servers listen there", Help: "address of the log server: a Unix socket, or for udp and tcp a host and port", Example: `"192.0.2.9:514"`},
		{Name: "format", Type: Text, Allowed: []string{"local", "rfc3164", "rfc5424"},
			Meanings: []string{"as programs write it to the socket of their machine: a time and no host", "RFC 3164: time and host", "RFC 5424: time with the year, and host"}, Help: "header of each line. If not given: local for unix, rfc5424 for udp and tcp. Over TCP an rfc5424 line begins with its length, other lines end with a line feed", Example: `"rfc5424"`},
	},
}

// accessLog reads the access log at the top, or one of a frontend.
func (d *Decoder) accessLog(n *Node, frontend string) AccessLog {
	l := AccessLog{
		Name: n.Label.Value, Range: n.Range, Given: true, To: Placed[string]{Get[string](n, "to"), n.At("to")},
		Format: Get[string](n, "format"), Fields: Get[[]FieldPair](n, "fields"), FieldsAt: n.At("fields"), Left: Get[int](n, "client_left_status"), Share: Get[float64](n, "share"),
	}
	if frontend != "" {
		l.Frontends = []string{frontend}
	}
	if strings.HasPrefix(l.To.Value, "syslog:") {
		d.Add(IDType, n.At("to"), fmt.Sprintf("%q is no place for lines; a block of its own says which log server", shorten(l.To.Value)), "to = \"syslog\", and at the top syslog { transport = \"udp\", address = \"192.0.2.9:514\" }, each key on a line of its own")
	}
	if len(l.Fields) > 0 && l.Format != "json" {
		d.Add(IDUnknown, n.At("fields"), "fields belong to the json format; Combined lines have their own", "format = \"json\"")
	}
	for _, f := range l.Fields {
		if !containsText(AccessFields, f.Value.Value) {
			d.Add(IDChoice, f.Value.Range, fmt.Sprintf("the access log has no field %q", shorten(f.Value.Value)), DidYouMean(f.Value.Value, AccessFields))
		}
	}
	if n.Has("line") {
		d.accessLine(n, &l)
	}
	if n.Has("share") && l.Share == 0 {
		d.Add(IDType, n.At("share"), "0% of the requests get a line, so that the log stays empty", "a share above 0%; to = \"off\" writes no lines")
	}
	if l.Share == 1 {
		l.Share = 0
	}
	for _, w := range n.All("when") {
		l.Filters = append(l.Filters, d.accessFilter(w))
	}
	return l
}

// frontendLogs reads the access logs of a frontend, each of a name of its own.
func (d *Decoder) frontendLogs(n *Node, frontend string) (out []AccessLog) {
	for _, x := range n.All("access_log") {
		for _, o := range out {
			if o.Name == x.Label.Value {
				d.Add(IDTwice, x.Label.Range, fmt.Sprintf("the frontend has two access logs of the name %q", o.Name), fmt.Sprintf("the first is at %s:%d", o.Range.Filename, o.Range.Start.Line))
			}
		}
		out = append(out, d.accessLog(x, frontend))
	}
	return out
}

// accessLine reads a form of lines of one's own.
func (d *Decoder) accessLine(n *Node, l *AccessLog) {
	l.LineText, l.LineAt = Get[string](n, "line"), n.At("line")
	bad := func(text, hint string) { d.Add(IDType, l.LineAt, text, hint) }
	switch {
	case n.Has("format"):
		bad("line and format both say how lines look", "remove one of them")
	case strings.ContainsFunc(l.LineText, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }):
		bad("the line has a control character", "one line of text with fields in braces, such as {client}")
	}
	pieces, err := template.Parse(l.LineText)
	if err != nil {
		bad(err.Error(), "like "+n.Def.Key("line").Example)
		return
	}
	l.Line = pieces
	fields := template.Fields(pieces)
	if len(fields) == 0 {
		bad("the line names no field in braces", "like "+n.Def.Key("line").Example)
	}
	for _, f := range fields {
		switch known := slices.Concat(AccessFields, []string{"request", "header:NAME", "cookie:NAME"}); {
		case f.Of != "" || slices.Contains(known, f.Name):
		default:
			bad(fmt.Sprintf("the access log has no field %q", shorten(f.Name)), DidYouMean(f.Name, known))
		}
	}
	d.lineEnds(l.LineAt, pieces, false)
}

// lineEnds reports fields whose end no reader of the line could tell. Other values have %XX for
// what would end them.
func (d *Decoder) lineEnds(at hcl.Range, pieces []template.Piece, quoted bool) {
	for i, p := range pieces {
		d.lineEnds(at, p.Group, true)
		if p.Field == nil || i+1 == len(pieces) {
			continue
		}
		next := pieces[i+1].Text
		switch {
		case p.Field.Name == "request" && (quoted || strings.HasPrefix(next, " ")):
			d.Add(IDType, at, "{request} has spaces, so that no reader could tell its end", `in quotes of its own: \"{request}\"`)
		case p.Field.Layout != "" && next != "" && strings.Contains(p.Field.Layout, next[:1]):
			d.Add(IDType, at, fmt.Sprintf("{%s} contains %q, which also follows it, so that no reader could tell its end", p.Field.Written, next[:1]), fmt.Sprintf("[{%s}], or {time}", p.Field.Written))
		}
	}
}

// accessFilter reads which lines an access log has. Names of routes are held against the routes
// later, see routesLogged.
func (d *Decoder) accessFilter(n *Node) AccessFilter {
	f := AccessFilter{AtLeast: Get[time.Duration](n, "at_least")}
	if len(n.values) == 0 && len(d.syntax) == 0 {
		d.Add(IDMissing, n.Range, "this when block has no condition", "route, status, cause or at_least; without a when block every request gets a line")
	}
	for _, s := range Get[[]Placed[string]](n, "status") {
		r, ok := parseStatusRange(s.Value)
		if !ok {
			d.Add(IDType, s.Range, fmt.Sprintf("%q is not a status or a range of them", shorten(s.Value)), `like "404" or "500-599"`)
			continue
		}
		f.Status = append(f.Status, r)
	}
	words := []string{"*"}
	for _, c := range cause.All {
		words = append(words, c.Word)
	}
	for _, c := range Get[[]Placed[string]](n, "cause") {
		if !slices.Contains(words, c.Value) {
			d.Add(IDChoice, c.Range, fmt.Sprintf("there is no cause %q", shorten(c.Value)), DidYouMean(c.Value, words[1:]))
		}
		f.Causes = append(f.Causes, c.Value)
	}
	for _, r := range Get[[]Placed[string]](n, "route") {
		d.logged = append(d.logged, r)
		f.Routes = append(f.Routes, r.Value)
	}
	return f
}

// routesLogged holds the routes that access logs name against those there are.
func (d *Decoder) routesLogged(c *Config) {
	var names []string
	for _, f := range c.Frontends {
		for _, r := range f.Routes {
			names = append(names, r.Name, f.Name+"/"+r.Name)
		}
	}
	for _, r := range d.logged {
		if !slices.Contains(names, r.Value) && len(d.syntax) == 0 {
			d.Add(IDChoice, r.Range, fmt.Sprintf("there is no route %q, so that its requests get no line", shorten(r.Value)), DidYouMean(r.Value, names))
		}
	}
}

// Fits reports whether a request is one of those that an access log has, but for its share.
func (l *AccessLog) Fits(frontend, route string, status int, why string, lasted time.Duration) bool {
	if l.Frontends != nil && !slices.Contains(l.Frontends, frontend) {
		return false
	}
	fits := func(f AccessFilter) bool {
		return (f.Routes == nil || slices.ContainsFunc(f.Routes, func(name string) bool { return name == route || name == frontend+"/"+route })) &&
			(f.Status == nil || slices.ContainsFunc(f.Status, func(r StatusRange) bool { return status >= r.From && status <= r.To })) &&
			(f.Causes == nil || why != "" && (slices.Contains(f.Causes, "*") || slices.Contains(f.Causes, why))) &&
			lasted >= f.AtLeast
	}
	return len(l.Filters) == 0 || slices.ContainsFunc(l.Filters, fits)
}

// Whole reports whether a log has a line for every request of its frontends.
func (l *AccessLog) Whole() bool { return len(l.Filters) == 0 && l.Share == 0 }

// Title names the log in a message.
func (l *AccessLog) Title() string {
	if l.Name == "" {
		return "access_log"
	}
	return fmt.Sprintf("access_log %q", l.Name)
}

func (d *Decoder) syslog(n *Node) Syslog {
	s := Syslog{Range: n.Range, Facility: facilities[Get[string](n, "facility")], Transport: Get[string](n, "transport"), Address: Get[Placed[Address]](n, "address").Value, Format: Get[string](n, "format")}
	switch {
	case s.Transport == "unix" && s.Address.Unix == "":
		d.Add(IDType, n.At("address"), fmt.Sprintf("%s is no unix socket, which transport = \"unix\" needs", s.Address), "transport = \"udp\" or \"tcp\", or an address like \"unix:/dev/log\"")
	case s.Transport != "unix" && !n.Has("address"):
		d.Add(IDMissing, n.Range, fmt.Sprintf("transport is %q and no address is given", s.Transport), "address = \"192.0.2.9:514\" says where the log server takes lines")
	case s.Transport != "unix" && s.Address.Unix != "":
		d.Add(IDType, n.At("address"), fmt.Sprintf("%s is a unix socket; %s needs a host and port", s.Address, s.Transport), "an address like \"192.0.2.9:514\", or transport = \"unix\"")
	}
	s.Format = cmp.Or(s.Format, map[bool]string{true: "local", false: "rfc5424"}[s.Transport == "unix"])
	return s
}
