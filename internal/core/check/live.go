package check

import (
	"slices"
	"time"

	"github.com/hashicorp/hcl/v2"

	"kestrix/internal/core/config"
)

// LiveRules are what `check -live` finds by looking at the machine, and `check -trace` by reading recorded
// requests. They have no examples: what is found lies in the world and not in the text.
var LiveRules = append([]*Rule{
	{ID: "KX801", Severity: config.Error, Title: "a name that does not resolve",
		Why: "its backend is down from the start, and the proxy goes on without it", Fix: "correct the name, or enter it where names are kept; from another machine the answer may differ"},
	{ID: "KX802", Severity: config.Error, Title: "a backend that refuses connections",
		Why: "nothing listens there: the application is not running, or on another port or address; or a packet filter rejects, which looks the same from here", Fix: "start it, correct the address, or open the port in the filter"},
	{ID: "KX803", Severity: config.Error, Title: "a backend that is silent",
		Why: "no answer at all comes back, as from behind a packet filter that drops, or from a machine that is off", Fix: "open the port in the filter, or correct the address"},
	{ID: "KX804", Severity: config.Error, Title: "a backend that cannot be reached",
		Why: "this machine has no route to it, a router reports it as unreachable, or a packet filter rejects with such a message", Fix: "a route to its network, another address, or the port opened in the filter"},
	{ID: "KX805", Severity: config.Error, Title: "a backend with which no connection can be made",
		Why: "something listens, and then the handshake fails", Fix: "what the witness says"},
	{ID: "KX806", Severity: config.Warning, Title: "a probe that fails now",
		Why: "the proxy would take the backend out after as many of these as down_after says", Fix: "fix the backend, or change the probe to what the backend answers"},
	{ID: "KX807", Severity: config.Warning, Title: "a listener that cannot be bound",
		Why: "the proxy would not start; if it is in use by the proxy that is already running, all is well", Fix: "end what holds the address, or listen on another"},
	{ID: "KX809", Severity: config.Error, Title: "a file that cannot be written",
		Why: "the proxy would not start, or lose what belongs there; who asks may have other rights than the user that it runs as", Fix: "make the folder, and let that user write there"},
	{ID: "KX810", Severity: config.Warning, Title: "a log server that cannot be reached",
		Why: "access lines wait for it, 1 MiB of them, and further ones are lost", Fix: "start it, or correct the address in the block syslog"},
	{ID: "KX811", Severity: config.Advice, Title: "a name with several addresses that counts once",
		Why: "with resolve = \"once\" each connection goes to one of them: they are one backend, which is down when one of them fails its probe, and no weight or limit tells them apart", Fix: "resolve = \"each\", where they are servers of their own"},
	{ID: "KX808", Severity: config.Error, Title: "a password that is tried first",
		Why: "attackers try a few common passwords first", Fix: "`kestrix password` makes the hash of a better one"},
}, traceRules...)

// Flag returns the flag of `check` that a rule needs, empty for none.
func (r *Rule) Flag() string {
	switch {
	case slices.Contains(traceRules, r):
		return "-trace"
	case slices.Contains(LiveRules, r):
		return "-live"
	}
	return ""
}

// Guesses are the passwords that are tried, besides the user's own name.
var Guesses = []string{"password", "password1", "12345678", "changeme", "kestrix1", "operator", "administrator", "letmein1"}

// Seen is one thing that `check -live` looked at.
type Seen struct {
	Kind   string        // name, backend, probe, listener, user, file, log server or certificate
	Who    string        // such as booking.auk
	What   string        // such as an address
	Result string        // a word
	Detail string        // what else there is to say
	Took   time.Duration // 0 where it says nothing
	Good   bool
}

// LiveFinding makes the finding of a rule of LiveRules.
func LiveFinding(id string, at hcl.Range, message, witness string) config.Finding {
	r := find(LiveRules, id)
	return config.Finding{ID: r.ID, Severity: r.Severity, Range: at, Message: message, Why: r.Why, Witness: witness, Fix: r.Fix}
}
