package config

import (
	"fmt"
	"strings"

	"github.com/hashicorp/hcl/v2"
)

// AccessLog says where access lines go.
type AccessLog struct {
	Range  hcl.Range
	Given  bool
	To     Placed[string] // stdout, stderr, off, syslog or a path
	Format string         // combined or json
	Fields []FieldPair    // key and AccessFields' name of each; none: all
	Left   int            // status in lines of clients that left before the head of an answer; 0: none
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

var accessLogBlock = &Block{
	Name: "access_log", Always: true,
	Help: "access log: one line per request, readable as a trace by replay",
	Keys: []*Key{
		{Name: "to", Type: Text, Default: `"stdout"`, Why: "a service manager collects standard output, and nothing fills a disk unnoticed", Help: "destination: stdout, stderr, off, syslog (see the block syslog), or the path of a file", Example: `"access.log"`},
		{Name: "format", Type: Text, Default: `"combined"`, Why: "most tools read it, and replay reads its further fields", Allowed: []string{"combined", "json"},
			Meanings: []string{"Combined log lines with additional fields", "JSON Lines"}, Help: "format of the lines", Example: `"json"`},
		{Name: "fields", Ordered: true, Type: FieldTable, Help: "json format: keys in their order, each with its field; all fields under their own names if not given", Known: AccessFields, Meanings: accessFieldDocs,
			Example: `{ at = "time", who = "client", took = "duration", backend = "backend" }`},
		{Name: "client_left_status", Type: Whole, Min: "400", Max: "499", Help: "status in the lines of clients that left before a response. If not given, JSON has no status and Combined 000. The cause is client_left in any case", Example: "498"},
	},
}

var syslogBlock = &Block{
	Name: "syslog",
	Help: "log server for access_log { to = \"syslog\" }; the one of this machine if not given",
	Keys: []*Key{
		{Name: "facility", Type: Text, Default: `"local0"`, Why: "the local facilities are free for applications (RFC 5424)", Allowed: []string{"user", "daemon", "local0", "local1", "local2", "local3", "local4", "local5", "local6", "local7"},
			Help: "syslog facility of access lines; their severity is informational", Example: `"local3"`},
		{Name: "transport", Type: Text, Default: `"unix"`, Why: "the log server of the same machine is the nearest", Allowed: []string{"unix", "udp", "tcp"},
			Meanings: []string{"datagrams of a Unix socket", "UDP (RFC 5426); lost lines are not detected", "TCP (RFC 6587)"}, Help: "transport to the log server", Example: `"tcp"`},
		{Name: "address", Type: Addr, Default: `"unix:/dev/log"`, Why: "Linux log servers listen there", Help: "address of the log server: a Unix socket, or for udp and tcp a host and port", Example: `"192.0.2.9:514"`},
		{Name: "format", Type: Text, Allowed: []string{"local", "rfc3164", "rfc5424"},
			Meanings: []string{"as programs write it to the socket of their machine: a time and no host", "RFC 3164: time and host", "RFC 5424: time with the year, and host"}, Help: "header of each line. If not given: local for unix, rfc5424 for udp and tcp. Over TCP an rfc5424 line begins with its length, other lines end with a line feed", Example: `"rfc5424"`},
	},
}

func (d *Decoder) accessLog(n *Node) AccessLog {
	l := AccessLog{Range: n.Range, Given: true, To: Placed[string]{Get[string](n, "to"), n.At("to")}, Format: Get[string](n, "format"), Fields: Get[[]FieldPair](n, "fields"), Left: Get[int](n, "client_left_status")}
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
	return l
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
	if s.Format == "" {
		if s.Format = "rfc5424"; s.Transport == "unix" {
			s.Format = "local"
		}
	}
	return s
}
