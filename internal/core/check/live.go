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
		Why: "its backend is down from the start, and the proxy serves without it", Fix: "correct the name, or add it to DNS; the result may differ on another machine"},
	{ID: "KX802", Severity: config.Error, Title: "a backend that refuses connections",
		Why: "nothing listens there, or a packet filter rejects; both look the same from here", Fix: "start it, correct the address, or open the port in the filter"},
	{ID: "KX803", Severity: config.Error, Title: "a silent backend",
		Why: "no answer arrives, as from behind a packet filter that drops, or from a machine that is off", Fix: "open the port in the filter, or correct the address"},
	{ID: "KX804", Severity: config.Error, Title: "an unreachable backend",
		Why: "this machine has no route to it, a router reports it as unreachable, or a packet filter rejects", Fix: "a route to its network, another address, or an open port in the filter"},
	{ID: "KX805", Severity: config.Error, Title: "a backend whose handshake fails",
		Why: "something listens, and then the handshake fails", Fix: "see the witness"},
	{ID: "KX806", Severity: config.Warning, Title: "a probe that fails now",
		Why: "the proxy takes the backend out after down_after such failures", Fix: "fix the backend, or change the probe"},
	{ID: "KX807", Severity: config.Warning, Title: "a listener that cannot be bound",
		Why: "the proxy does not start; if the running proxy holds the address, all is well", Fix: "end the process that holds the address, or listen on another"},
	{ID: "KX809", Severity: config.Error, Title: "a file that cannot be written",
		Why: "the proxy does not start, or loses that output; you may have other rights than the user of the service", Fix: "create the folder, and give that user write access"},
	{ID: "KX810", Severity: config.Warning, Title: "an unreachable log server",
		Why: "up to 1 MiB of lines wait for it, and further ones are lost", Fix: "start it, or correct the address in the block syslog"},
	{ID: "KX811", Severity: config.Advice, Title: "a name with several addresses that is one backend",
		Why: "with resolve = \"once\" each connection goes to one of them: one failed probe takes them all out", Fix: "resolve = \"each\", if they are separate servers"},
	{ID: "KX812", Severity: config.Error, Title: "an ACME server that issues nothing",
		Why: "without it no certificate is obtained or renewed; one that is there goes on until it expires", Fix: "see the witness; read terms of service before you agree to them with terms_agreed = true"},
	{ID: "KX813", Severity: config.Error, Title: "a name for a certificate that does not resolve",
		Why: "the ACME server connects to the name, and issues nothing if it cannot", Fix: "correct the name, or add it to DNS; the server may see other records than this machine"},
	{ID: "KX808", Severity: config.Error, Title: "a common password",
		Why: "attackers try common passwords first", Fix: "kestrix password makes the hash of a better one"},
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
	Kind   string        // name, backend, probe, listener, user, file, log server, directory or certificate
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
