package config

import "github.com/hashicorp/hcl/v2"

// EventLog says where the events of a running proxy go besides control.
type EventLog struct {
	Range  hcl.Range      // empty where the block is not given
	Format string         // on stderr: text or json
	File   Placed[string] // keeps events across restarts, as JSON Lines; empty: none
	Syslog bool           // they also go to the server of the block syslog
	Size   int64          // bytes of File and of the one before it together, at most
}

var eventLogBlock = &Block{
	Name: "event_log", Always: true,
	Help: "event log: changes of state, orders, reloads and everything else besides requests; kestrix events lists them",
	Keys: []*Key{
		{Name: "format", Type: Text, Default: `"text"`, Why: "people read it first", Allowed: []string{"text", "json"}, Meanings: []string{"time, object, kind and text", "JSON Lines, with the keys of GET /events"}, Help: "format of the lines on stderr. Where stderr is the journal of systemd, each line has its priority", Example: `"json"`},
		{Name: "syslog", Type: Switch, Default: "false", Help: "whether events also go to the log server, each with the priority of its severity (RFC 5424 section 6.2.1). Each is object, kind and text, or with json as on stderr. The block syslog names the server", Example: "true"},
		{Name: "file", Type: Text, Help: "file that keeps the events across restarts, as JSON Lines; not kept if not given", Example: `"/var/lib/kestrix/events.jsonl"`},
		{Name: "size", Type: Size, Default: `"8MiB"`, Why: "some 40,000 events", Min: `"64KiB"`, Help: "maximum size of the file together with the one before it, FILE.1", Example: `"64MiB"`},
	},
}

func (d *Decoder) eventLog(n *Node) EventLog {
	e := EventLog{Range: n.Range, Format: Get[string](n, "format"), Syslog: Get[bool](n, "syslog"), File: Placed[string]{Get[string](n, "file"), n.At("file")}, Size: Get[int64](n, "size")}
	if n.Has("size") && e.File.Value == "" {
		d.Add(IDUnknown, n.At("size"), "size limits the file of events, and there is none", "file = \"/var/lib/kestrix/events.jsonl\"")
	}
	return e
}
